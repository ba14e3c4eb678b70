#include "app/stages/explore/explore_stage.h"

#include "app/plots/plot_view.h"
#include "app/shell/flow_layout.h"
#include "app/shell/theme.h"
#include "core/base/format.h"
#include "core/describe/row_names.h"
#include "core/describe/scatter.h"
#include "core/describe/smooth.h"
#include "core/report/wording.h"

#include <QHBoxLayout>
#include <QLabel>
#include <QPushButton>
#include <QVBoxLayout>

#include <cmath>

namespace rapporto::app {

ExploreStage::ExploreStage(Session& session, QWidget* parent)
    : Stage(session, parent),
      deskLine_(new FlowLayout),
      pictureLine_(new QHBoxLayout),
      scatter_(new PlotView(this)),
      first_(new PlotView(this)),
      second_(new PlotView(this)),
      drawing_([this](const Drawn& drawn) { showDrawn(drawn); }) {
    auto* layout = new QVBoxLayout(this);
    layout->setContentsMargins(22, 16, 20, 12);
    layout->setSpacing(12);
    auto* line = new QWidget(this);
    line->setLayout(deskLine_);
    deskLine_->setContentsMargins(0, 0, 0, 0);
    layout->addWidget(line);
    pictureLine_->setSpacing(16);
    layout->addLayout(pictureLine_);
    auto* pictures = new QHBoxLayout;
    pictures->setSpacing(18);
    pictures->addWidget(scatter_, 5);
    auto* right = new QVBoxLayout;
    right->addWidget(first_, 1);
    right->addWidget(second_, 1);
    pictures->addLayout(right, 3);
    layout->addLayout(pictures, 1);
    for (PlotView* plot : {scatter_, first_, second_}) {
        connect(plot, &PlotView::rowsSelected, &session_, &Session::selectRows);
    }
    connect(&session_, &Session::selectionChanged, this, [this] {
        if (isVisible()) {
            refresh();
        }
    });
}

bool ExploreStage::plottable(const std::string& name) const {
    const auto frame = session_.frame();
    const Column* column = frame ? frame->column(name) : nullptr;
    return column != nullptr && frame->moments() == nullptr;
}

void ExploreStage::putOnDesk(const std::string& name) {
    std::erase(desk_, name);
    desk_.push_back(name);
    if (desk_.size() > 2) {
        desk_.erase(desk_.begin());
    }
    refresh();
}

void ExploreStage::refresh() {
    if (desk_.empty()) {
        // What the question is about is what one wants to see first.
        if (const Question* q = session_.question();
            q != nullptr && q->kind == "explain" && session_.frame()) {
            for (const auto& expression :
                 {q->outcome, q->terms.size() > 1 ? q->terms[1].parts.front()
                              : q->terms.empty()  ? std::string()
                                                  : q->terms.front().parts.front()}) {
                if (session_.frame()->column(expression) != nullptr) {
                    desk_.push_back(expression);
                }
            }
        }
    }
    std::erase_if(desk_,
                  [this](const std::string& name) { return session_.frame() && !plottable(name); });
    rebuildDesk();
    rebuildPictures();
    if (session_.frame() != shown_ || desk_ != shownDesk_ || picture_ != shownPicture_ ||
        session_.selectedRows() != shownSelection_) {
        shownPicture_ = picture_;
        shown_ = session_.frame();
        shownDesk_ = desk_;
        shownSelection_ = session_.selectedRows();
        drawPictures();
    }
    emit readingChanged();
}

void ExploreStage::rebuildDesk() {
    if (desk_ == shownDesk_ && deskLine_->count() > 0) {
        return;
    }
    while (QLayoutItem* item = deskLine_->takeAt(0)) {
        if (item->widget() != nullptr) {
            item->widget()->hide();
            item->widget()->deleteLater();
        }
        delete item;
    }
    auto* word = new QLabel(tr("On the desk"), deskLine_->parentWidget());
    word->setFont(paperFont(19, true));
    word->setStyleSheet("color:#6B6F7B");
    deskLine_->addWidget(word);
    word->show();
    for (const auto& name : desk_) {
        auto* chip = new QPushButton(text(name) + "  ×", deskLine_->parentWidget());
        chip->setProperty("chip", true);
        chip->setToolTip(tr("Take it off the desk"));
        connect(chip, &QPushButton::clicked, this, [this, name] {
            std::erase(desk_, name);
            refresh();
        });
        deskLine_->addWidget(chip);
        chip->show();
    }
    if (desk_.size() == 2) {
        auto* swap = new QPushButton(tr("swap axes"), deskLine_->parentWidget());
        connect(swap, &QPushButton::clicked, this, [this] {
            std::swap(desk_[0], desk_[1]);
            refresh();
        });
        deskLine_->addWidget(swap);
        swap->show();
    }
    auto* hint =
        new QLabel(tr("click a variable at the left to put it here"), deskLine_->parentWidget());
    hint->setStyleSheet("color:#6B6F7B");
    deskLine_->addWidget(hint);
    hint->show();
}

bool ExploreStage::isGroups(const std::string& name) const {
    const auto frame = session_.frame();
    const Column* column = frame ? frame->column(name) : nullptr;
    return column != nullptr && (column->isText() || isGrouping(frame->variable(name)->measure) ||
                                 frame->variable(name)->measure == Measure::YesNo);
}

std::vector<Picture> ExploreStage::fittingPictures() const {
    if (desk_.size() == 1) {
        return isGroups(desk_[0]) ? std::vector<Picture>{Picture::Histogram}
                                  : std::vector<Picture>{Picture::Histogram, Picture::Quantiles,
                                                         Picture::Cumulative};
    }
    if (desk_.size() == 2 && isGroups(desk_[1]) && !isGroups(desk_[0])) {
        return {Picture::Groups, Picture::Scatter};
    }
    return desk_.size() == 2 ? std::vector<Picture>{Picture::Scatter} : std::vector<Picture>{};
}

void ExploreStage::rebuildPictures() {
    const auto fitting = fittingPictures();
    if (!fitting.empty() && std::find(fitting.begin(), fitting.end(), picture_) == fitting.end()) {
        picture_ = fitting.front();
    } else if (desk_ != shownDesk_ && !fitting.empty()) {
        picture_ = fitting.front();
    } else if (pictureLine_->count() > 0 && desk_ == shownDesk_ && picture_ == shownPicture_) {
        return;
    }
    while (QLayoutItem* item = pictureLine_->takeAt(0)) {
        if (item->widget() != nullptr) {
            item->widget()->hide();
            item->widget()->setObjectName({});
            item->widget()->deleteLater();
        }
        delete item;
    }
    if (fitting.size() > 1) {
        for (const Picture one : fitting) {
            const QString name = one == Picture::Histogram    ? tr("histogram")
                                 : one == Picture::Quantiles  ? tr("quantiles")
                                 : one == Picture::Cumulative ? tr("cumulative")
                                 : one == Picture::Groups     ? tr("by groups")
                                                              : tr("scatter");
            auto* word = new QPushButton(name, this);
            word->setProperty("tab", true);
            word->setCheckable(true);
            word->setChecked(one == picture_);
            word->setObjectName("picture:" + name);
            connect(word, &QPushButton::clicked, this, [this, one] {
                picture_ = one;
                refresh();
            });
            pictureLine_->addWidget(word);
        }
    }
    pictureLine_->addStretch(1);
}

void ExploreStage::drawPictures() {
    const auto frame = session_.frame();
    if (!frame || desk_.empty()) {
        drawing_.cancel();
        scatter_->showNothing(frame && frame->moments() != nullptr
                                  ? tr("A summary has no rows to draw.")
                              : frame ? tr("Put a variable on the desk: click it at the left.")
                                      : tr("There are no data yet."));
        first_->showNothing({});
        second_->showNothing({});
        return;
    }
    const auto namer = [frame](std::size_t row) { return text(rowName(*frame, row)); };
    for (PlotView* plot : {scatter_, first_, second_}) {
        plot->setRowNamer(namer);
        plot->showSelection(session_.selectedRows());
    }
    drawnDesk_.clear();  // No number stands under other names than its own.
    drawing_.ask(
        [frame, desk = desk_, selected = session_.selectedRows(), picture = picture_,
         alpha = session_.study().alpha, groups = desk_.size() == 2 && isGroups(desk_[1]),
         both = desk_.size() == 2 && isGroups(desk_[0]) && isGroups(desk_[1]),
         number = !desk_.empty() && !isGroups(desk_[0])] {
            Drawn out;
            out.picture = picture;
            if (desk.size() == 1 && number) {
                const auto cells = frame->column(desk[0])->numbers();
                const auto use = rowsInSample(*frame);
                std::vector<double> counted(cells.begin(), cells.end());
                for (std::size_t i = 0; i < counted.size(); ++i) {
                    counted[i] = use[i] ? counted[i] : std::nan("");
                }
                out.normality = normalityTests(counted);
                out.density = densityOf(counted, sheatherJones(counted));
                const Summary s = summarise(counted);
                const double excess = excessKurtosis(counted);
                out.words.push_back(
                    normalityReading(out.normality, alpha, s.n, s.skewness, excess));
            }
            if (desk.size() == 1 && number) {
                out.quantiles = quantilePlot(*frame, desk[0], alpha);
                out.cumulative = empiricalDistribution(*frame, desk[0], alpha);
            }
            if (picture == Picture::Groups) {
                out.exhibit = byGroups(*frame, desk[0], desk[1], alpha);
            }
            if (both) {
                const auto cross = crossBy(*frame, desk[0], desk[1]);
                out.words.push_back(cross ? crossReading(*cross, desk[0], desk[1], alpha)
                                          : "~" + cross.error().text());
            } else if (groups && number) {
                auto compared = compareBy(*frame, desk[0], desk[1], alpha);
                if (compared) {
                    out.words.push_back(groupReading(*compared, desk[0], alpha));
                    out.groups = *std::move(compared);
                } else {
                    out.words.push_back("~" + compared.error().text());
                }
            }
            for (const std::string& name : desk) {
                out.distributions.push_back(distributionOf(*frame, name, selected));
            }
            if (desk.size() == 2) {
                out.scatter = scatterOf(*frame, desk[1], desk[0], selected);
            }
            out.frame = frame;
            out.desk = desk;
            return out;
        },
        frame->rows() <= kRowsAtOnce);
}

HistogramPicture ExploreStage::pictureOf(const Drawn& drawn, std::size_t k) {
    const Distribution& d = drawn.distributions[k];
    HistogramPicture out;
    out.bins = d.bins;
    out.selected = d.selected;
    out.names = d.levelNames;
    out.n = static_cast<double>(d.n);
    if (d.levelNames.empty()) {
        out.mean = d.summary.mean;
        out.sd = d.bins.counts.size() > 2 ? d.summary.sd : 0.0;
    }
    const Variable* v = drawn.frame->variable(drawn.desk[k]);
    out.title = text(v->shown()) + (v->unit.empty() ? "" : ", " + text(v->unit));
    if (k == 0 && !drawn.density.x.empty()) {
        out.curveX = drawn.density.x;
        out.curveY = drawn.density.y;
    }
    out.subtitle = d.levelNames.empty()
                       ? tr("n = %1 · skewness %2")
                             .arg(text(countText(d.n)), text(fixedNumber(d.summary.skewness, 1)))
                       : tr("n = %1").arg(text(countText(d.n)));
    return out;
}

void ExploreStage::showDrawn(const Drawn& drawn) {
    drawnDesk_ = drawn.desk;
    words_ = drawn.words;
    normality_ = drawn.normality;
    groups_ = drawn.groups;
    first_->showHistogram(pictureOf(drawn, 0));
    if (drawn.desk.size() < 2 && drawn.quantiles.x.empty()) {
        scatter_->showHistogram(pictureOf(drawn, 0));
        first_->showNothing({});
        second_->showNothing(tr("A second variable makes a scatter."));
    } else if (drawn.desk.size() < 2) {
        // The chosen picture is large, the two others stand beside it.
        const auto show = [&](PlotView* plot, Picture picture) {
            picture == Picture::Histogram   ? plot->showHistogram(pictureOf(drawn, 0))
            : picture == Picture::Quantiles ? plot->showExhibit(drawn.quantiles)
                                            : plot->showExhibit(drawn.cumulative);
        };
        show(scatter_, drawn.picture);
        show(first_, drawn.picture == Picture::Histogram ? Picture::Quantiles : Picture::Histogram);
        show(second_,
             drawn.picture == Picture::Cumulative ? Picture::Quantiles : Picture::Cumulative);
    } else {
        second_->showHistogram(pictureOf(drawn, 1));
        slope_ = drawn.scatter.slope;
        slopeWithout_ = drawn.scatter.slopeWithout;
        n_ = drawn.scatter.exhibit.x.size();
        drawn.scatter.exhibit.x.empty()    ? scatter_->showNothing(tr("No row has both."))
        : drawn.picture == Picture::Groups ? scatter_->showExhibit(drawn.exhibit)
                                           : scatter_->showExhibit(drawn.scatter.exhibit);
    }
    emit readingChanged();
}

ReadingContent ExploreStage::reading() const {
    ReadingContent content;
    const auto frame = session_.frame();
    if (!frame) {
        content.title = tr("explore");
        content.paragraphs << tr("Bring data in first.");
        return content;
    }
    const auto& rows = session_.selectedRows();
    if (!rows.empty()) {
        content.title = text(plural(rows.size(), "row", "rows")) + tr(" selected");
        QString names;
        std::size_t k = 0;
        for (const std::size_t row : rows) {
            if (k++ == 6) {
                names += " …";
                break;
            }
            names += (names.isEmpty() ? "" : ", ") +
                     ("<b>" + text(rowName(*frame, row)).toHtmlEscaped() + "</b>");
        }
        content.paragraphs << names + "."
                           << tr("<span style=\"color:#6B6F7B\">They are lit in every picture and "
                                 "in the grid.</span>");
        const QString change =
            desk_.size() == 2 && drawnDesk_ == desk_
                ? tr("Delete — with them the slope of the line is %1, without %2")
                      .arg(text(shortNumber(slope_, 3)), text(shortNumber(slopeWithout_, 3)))
                : tr("Delete");
        content.actions.push_back({tr("Set aside"), change, [this] {
                                       session_.setSelectedAside(tr("set aside from a picture"));
                                   }});
        content.actions.push_back(
            {tr("Select nothing"), tr("Esc"), [this] { session_.selectRows({}); }});
        return content;
    }
    for (const auto& name : desk_) {
        content.paragraphs << "<b>" + text(name).toHtmlEscaped() + "</b>";
        for (const auto& p : session_.readingOf(name)) {
            content.paragraphs << richText(p);
        }
    }
    if (drawnDesk_ == desk_) {
        for (const std::string& p : words_) {
            content.paragraphs << richText(p);
        }
        for (const NormalityTest& test : normality_) {
            content.fields.push_back(
                {tr(test.name),
                 test.p ? QString("%1 = %2, %3")
                              .arg(test.symbol, text(shortNumber(*test.statistic, 4)),
                                   text(pClause(*test.p)))
                        : text(test.why),
                 {},
                 {},
                 {}});
        }
        if (groups_) {
            for (const auto& group : groups_->groups) {
                content.fields.push_back({text(group.label),
                                          tr("%1 (sd %2, n %3)")
                                              .arg(text(shortNumber(group.summary.mean, 4)),
                                                   text(shortNumber(group.summary.sd, 3)),
                                                   text(countText(group.summary.n))),
                                          {},
                                          {},
                                          {}});
            }
            for (const GroupTest* test :
                 {&groups_->means, &groups_->pooled, &groups_->spread, &groups_->ranks}) {
                if (test->p) {
                    content.fields.push_back(
                        {tr(test->name),
                         QString("%1, %2").arg(text(shortNumber(*test->statistic, 4)),
                                               text(pClause(*test->p))),
                         {},
                         {},
                         {}});
                }
            }
        }
    }
    content.title = desk_.size() == 2 ? tr("%1 and %2").arg(text(desk_[0]), text(desk_[1]))
                    : desk_.empty()   ? tr("explore")
                                      : text(desk_[0]);
    if (desk_.size() == 2 && !(isGroups(desk_[1]) || isGroups(desk_[0]))) {
        content.paragraphs
            << (drawnDesk_ == desk_
                    ? tr("In a straight line, each further step of %1 goes with %2 of %3 (n = %4). "
                         "The "
                         "smooth shows whether a line is fair; drag a box to select rows.")
                          .arg(text(desk_[1]).toHtmlEscaped(), text(shortNumber(slope_, 3)),
                               text(desk_[0]).toHtmlEscaped(), text(countText(n_)))
                    : tr("Drawing the picture…"));
        content.actions.push_back(
            {tr("Relate them"), tr("correlation with interval, and with others held"), [this] {
                 session_.startRelation({quotedName(desk_[1]), quotedName(desk_[0])});
             }});
    }
    if (desk_.size() == 2 && !frame->column(desk_[0])->isText() &&
        !isGrouping(frame->variable(desk_[0])->measure)) {
        content.actions.push_back(
            {tr("Ask it as a question"),
             tr("explain %1 with %2").arg(text(desk_[0]), text(desk_[1])), [this] {
                 Question q;
                 q.outcome = quotedName(desk_[0]);
                 q.terms = {Term::expression(quotedName(desk_[1]))};
                 q.title = desk_[0] + " and " + desk_[1];
                 session_.putQuestion(q, tr("explain %1").arg(text(desk_[0])));
             }});
    }
    return content;
}

QString ExploreStage::state() const {
    return desk_.empty()       ? tr("empty desk")
           : desk_.size() == 1 ? tr("1 variable")
                               : tr("%1 variables").arg(desk_.size());
}

}  // namespace rapporto::app
