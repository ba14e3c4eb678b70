#include "app/stages/report/report_stage.h"

#include "app/shell/theme.h"
#include "core/base/disk.h"
#include "core/report/report.h"

#include <QAbstractTextDocumentLayout>
#include <QApplication>
#include <QBuffer>
#include <QClipboard>
#include <QFileDialog>
#include <QHBoxLayout>
#include <QLabel>
#include <QListWidget>
#include <QPainter>
#include <QPdfWriter>
#include <QPushButton>
#include <QSvgRenderer>
#include <QTextBrowser>
#include <QTextDocument>
#include <QVBoxLayout>

#include <algorithm>

namespace rapporto::app {
namespace {

QImage pictureOf(const std::string& svg, double scale) {
    QSvgRenderer renderer(QByteArray::fromStdString(svg));
    QImage image((QSizeF(renderer.defaultSize()) * scale).toSize(),
                 QImage::Format_ARGB32_Premultiplied);
    image.fill(Qt::transparent);
    QPainter painter(&image);
    renderer.render(&painter);
    return image;
}

/// HTML in the subset that a text document sets; figures by name.
QString pageHtml(const std::string& title, const std::vector<ReportBlock>& blocks) {
    using Kind = ReportBlock::Kind;
    QString out =
        "<div style=\"font-family:STIX;font-size:16px\"><p "
        "style=\"font-size:24px;margin-bottom:10px\">" +
        text(htmlText(title)) + "</p>";
    int figure = 0;
    for (const ReportBlock& b : blocks) {
        const QString words = text(htmlText(b.text));
        switch (b.kind) {
            case Kind::Heading:
                out += "<p style=\"font-size:18px;margin-top:18px;margin-bottom:4px\"><i>" + words +
                       "</i></p>";
                break;
            case Kind::Paragraph:
                out += "<p style=\"line-height:104%;margin-top:6px\">" + words + "</p>";
                break;
            case Kind::Caption:
                out += "<p style=\"margin-top:16px;margin-bottom:4px\">" + words + "</p>";
                break;
            case Kind::Note:
                out += "<p style=\"font-size:13px;color:#6B6F7B;margin-top:4px\">" + words + "</p>";
                break;
            case Kind::Equation:
                out += "<p style=\"margin-left:24px;line-height:104%\">" + words + "</p>";
                break;
            case Kind::Figure:
                out +=
                    QString("<p><img src=\"figure:%1\" width=\"%2\"></p>").arg(figure++).arg(500);
                break;
            case Kind::Table: {
                out += "<table width=\"96%\" cellspacing=\"0\" style=\"border-collapse:collapse\">";
                const std::size_t last = b.cells.size() - 1;
                for (std::size_t r = 0; r < b.cells.size(); ++r) {
                    const bool rule = std::find(b.rules.begin(), b.rules.end(), r) != b.rules.end();
                    const QString border =
                        QString(r == 0 ? "border-top:1px solid #232733;" : "") +
                        (rule || r == last ? "border-bottom:1px solid #232733;" : "");
                    out += "<tr>";
                    for (std::size_t c = 0; c < b.cells[r].size(); ++c) {
                        out += QString(
                                   "<td align=\"%1\" style=\"padding:1px "
                                   "6px;white-space:pre;%2\">%3</td>")
                                   .arg(c == 0 ? "left" : "right", border,
                                        text(htmlText(b.cells[r][c])));
                    }
                    out += "</tr>";
                }
                out += "</table>";
                break;
            }
        }
    }
    return out + "</div>";
}

}  // namespace

ReportStage::ReportStage(Session& session, QWidget* parent)
    : Stage(session, parent), page_(new QTextBrowser(this)), items_(new QListWidget(this)) {
    auto* layout = new QHBoxLayout(this);
    layout->setContentsMargins(22, 16, 12, 12);
    layout->setSpacing(14);
    page_->setStyleSheet("QTextBrowser{background:white;color:#232733;border:1px solid #D9D2C3}");
    page_->document()->setDocumentMargin(38);
    page_->setAccessibleName(tr("Report page"));
    page_->setObjectName("reportPage");
    layout->addWidget(page_, 1);
    auto* side = new QVBoxLayout;
    auto* title = new QLabel(tr("items"), this);
    title->setFont(paperFont(17, true));
    dress(title, "color:{soft}");
    side->addWidget(title);
    page_->setHorizontalScrollBarPolicy(Qt::ScrollBarAlwaysOff);
    items_->setHorizontalScrollBarPolicy(Qt::ScrollBarAlwaysOff);
    items_->setTextElideMode(Qt::ElideRight);
    items_->setFixedWidth(138);
    items_->setAccessibleName(tr("Items of the report"));
    items_->setObjectName("reportItems");
    dress(items_,
          "QListWidget::item{padding:7px 2px;border-bottom:1px solid {hairline}} "
          "QListWidget::item:selected{background:{wash};color:{accent}}");
    items_->setDragDropMode(QAbstractItemView::InternalMove);
    connect(items_->model(), &QAbstractItemModel::rowsMoved, this,
            [this](const QModelIndex&, int from, int, const QModelIndex&, int to) {
                placeItem(from, to > from ? to - 1 : to);
            });
    side->addWidget(items_, 1);
    for (const auto& [label, act] : std::vector<std::pair<QString, std::function<void()>>>{
             {tr("move up"), [this] { moveItem(-1); }},
             {tr("move down"), [this] { moveItem(1); }},
             {tr("take out"), [this] { removeItem(); }},
             {tr("+ this question"), [this] { addPresentQuestion(); }}}) {
        auto* button = new QPushButton(label, this);
        connect(button, &QPushButton::clicked, this, act);
        side->addWidget(button);
    }
    layout->addLayout(side);
}

std::vector<ReportBlock> ReportStage::blocks() const {
    std::vector<std::shared_ptr<const Answer>> held;
    AnswersById byId;
    for (const Question& q : session_.study().questions) {
        if (const auto answer = session_.answer(q.id)) {
            held.push_back(answer);
            byId.emplace(q.id, answer.get());
        }
    }
    return buildReport(session_.study(), byId);
}

bool ReportStage::allComplete() const {
    const auto& all = session_.study().questions;
    return std::all_of(all.begin(), all.end(), [this](const Question& q) {
        return session_.answer(q.id) == nullptr || session_.bench().isComplete(q.id);
    });
}

void ReportStage::fill(QTextDocument& document, double scale) const {
    const auto all = blocks();
    int figure = 0;
    for (const ReportBlock& b : all) {
        if (b.kind == ReportBlock::Kind::Figure) {
            document.addResource(QTextDocument::ImageResource,
                                 QUrl(QString("figure:%1").arg(figure++)), pictureOf(b.svg, scale));
        }
    }
    document.setHtml(pageHtml(session_.study().title, all));
}

void ReportStage::refresh() {
    const auto items = reportItems(session_.study());
    const int current = items_->currentRow();
    items_->clear();
    for (const ReportItem& item : items) {
        QString label = text(item.item);
        if (item.questions.size() == 1) {
            if (const Question* q = session_.study().find(item.questions.front())) {
                label += "  " + text(q->title);
            }
        } else if (item.questions.size() > 1) {
            label += tr("  of %1").arg(item.questions.size());
        }
        items_->addItem(label);
    }
    items_->setCurrentRow(std::min(current, items_->count() - 1));
    if (items.empty()) {
        page_->setHtml(
            tr("<p style=\"color:#6B6F7B\">The report fills itself from the lead question. State a "
               "question first.</p>"));
    } else if (!shown_.isEmpty() && !allComplete()) {
        // The page turns once, when all of it is there.
    } else {
        QTextDocument probe;
        fill(probe, 1.0);
        const QString next = probe.toHtml();
        if (next != shown_) {
            shown_ = next;
            fill(*page_->document(), 2.0);
        }
    }
    emit readingChanged();
}

void ReportStage::moveItem(int by) {
    const int from = items_->currentRow();
    items_->setCurrentRow(from + by);
    placeItem(from, from + by);
}

void ReportStage::placeItem(int from, int to) {
    auto items = reportItems(session_.study());
    if (from < 0 || to < 0 || from == to || to >= static_cast<int>(items.size())) {
        return;
    }
    const ReportItem moved = items[static_cast<std::size_t>(from)];
    items.erase(items.begin() + from);
    items.insert(items.begin() + to, moved);
    session_.edit(SetReport{items}, tr("reorder the report"));
    items_->setCurrentRow(to);
}

void ReportStage::removeItem() {
    auto items = reportItems(session_.study());
    const int at = items_->currentRow();
    if (at >= 0 && items.size() > 1) {
        items.erase(items.begin() + at);
        session_.edit(SetReport{items}, tr("shorten the report"));
    }
}

void ReportStage::addPresentQuestion() {
    const Question* q = session_.question();
    if (q == nullptr) {
        return;
    }
    auto items = reportItems(session_.study());
    items.push_back({"reading", {q->id}});
    items.push_back({"table", {q->id}});
    session_.edit(SetReport{items}, tr("add %1 to the report").arg(text(q->title)));
}

QString ReportStage::exportTo(const QString& path) const {
    if (const auto may = session_.mayWriteTo(path); !may) {
        return text(may.error().text());
    }
    if (!allComplete()) {
        return session_.bench().progress().busy()
                   ? tr("Answers of this report are still being worked out. Save it when the line "
                        "at the foot of the window has stopped counting.")
                   : tr("Answers of this report were stopped before they were done. Any change "
                        "starts them again.");
    }
    std::string bytes;
    if (path.endsWith(".pdf")) {
        bytes = pdf();
    } else {
        const auto& writers = allReportWriters();
        const auto writer = std::find_if(writers.begin(), writers.end(), [&](const auto& one) {
            return path.endsWith(one.ending);
        });
        if (writer == writers.end()) {
            return tr("A report is .html, .pdf, .md or .csv.");
        }
        bytes = writer->write(session_.study().title, blocks());
    }
    const auto done = replaceFile(utf8(path), bytes);
    return done ? QString() : text(done.error().text());
}

std::string ReportStage::pdf() const {
    QBuffer buffer;
    buffer.open(QIODevice::WriteOnly);
    {
        QPdfWriter writer(&buffer);
        writer.setPageSize(QPageSize(QPageSize::A4));
        writer.setPageMargins(QMarginsF(22, 22, 22, 22), QPageLayout::Millimeter);
        writer.setResolution(300);
        writer.setTitle(text(session_.study().title));
        QTextDocument document;
        document.setDefaultFont(paperFont(16));
        document.documentLayout()->setPaintDevice(&writer);
        fill(document, 4.0);
        document.print(&writer);
    }
    return buffer.data().toStdString();
}

void ReportStage::exportAs(const QString& ending) {
    const QString path =
        QFileDialog::getSaveFileName(this, tr("Save the report"), "report" + ending, "*" + ending);
    if (path.isEmpty()) {
        return;
    }
    const QString why = exportTo(path.endsWith(ending) ? path : path + ending);
    why.isEmpty() ? emit session_.told(tr("saved %1").arg(path.section('/', -1)))
                  : emit session_.refused(why);
}

ReadingContent ReportStage::reading() const {
    ReadingContent content;
    content.title = tr("report");
    content.paragraphs << tr("Every item follows its question: change one and the page changes.");
    content.actionsTitle = tr("Take it away");
    for (const auto& [ending, why] : std::vector<std::pair<QString, QString>>{
             {".html", tr("one page with its figures, for any browser")},
             {".pdf", tr("typeset on A4")},
             {".md", tr("Markdown, without figures")},
             {".csv", tr("the tables alone")}}) {
        content.actions.push_back(
            {tr("Save as %1").arg(ending.mid(1).toUpper()), why,
             [this, ending = ending] { const_cast<ReportStage*>(this)->exportAs(ending); }});
    }
    content.actions.push_back({tr("Copy the tables"), tr("for a sheet or a letter"), [this] {
                                   QString out;
                                   for (const ReportBlock& b : blocks()) {
                                       for (const auto& row : b.cells) {
                                           QStringList cells;
                                           for (const auto& cell : row) {
                                               cells << text(cell);
                                           }
                                           out += cells.join('\t') + "\n";
                                       }
                                   }
                                   QApplication::clipboard()->setText(out);
                               }});
    return content;
}

QString ReportStage::state() const {
    const auto n = reportItems(session_.study()).size();
    return n == 0 ? tr("empty") : n == 1 ? tr("1 item") : tr("%1 items").arg(n);
}

}  // namespace rapporto::app
