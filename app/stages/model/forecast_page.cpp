#include "app/stages/model/forecast_page.h"

#include "app/shell/theme.h"
#include "core/base/format.h"
#include "core/report/defence_picture.h"
#include "core/report/defence_wording.h"

#include <QComboBox>
#include <QGridLayout>
#include <QLabel>
#include <QLineEdit>
#include <QPushButton>
#include <QVBoxLayout>

namespace rapporto::app {
namespace {

constexpr int kMostMoments = 500;
constexpr int kColumns = 3;  // Of variables beside each other.

QString valuesText(const GoesOn& goes) {
    QStringList out;
    for (const Key& key : goes.values) {
        out << (std::holds_alternative<double>(key) ? numbered(exactNumber(std::get<double>(key)))
                                                    : text(std::get<std::string>(key)));
    }
    return out.join("; ");
}

}  // namespace

ForecastPage::ForecastPage(Session& session, QWidget* parent)
    : QWidget(parent),
      session_(session),
      begin_(new QPushButton(tr("Foretell the next twelve moments"), this)),
      settings_(new QWidget(this)),
      grid_(new QGridLayout(settings_)),
      plot_(new PlotView(this)),
      message_(new QLabel(this)) {
    auto* layout = new QVBoxLayout(this);
    layout->setContentsMargins(0, 4, 0, 0);
    begin_->setObjectName("forecast:begin");
    layout->addWidget(begin_, 0, Qt::AlignLeft);
    grid_->setContentsMargins(0, 0, 0, 0);
    grid_->setHorizontalSpacing(12);
    grid_->setVerticalSpacing(4);
    layout->addWidget(settings_);
    message_->setObjectName("forecast:message");
    message_->setWordWrap(true);
    dress(message_, "color:{caution}");
    layout->addWidget(message_);
    plot_->setObjectName("forecastPicture");
    plot_->setAccessibleName(tr("The series as it was and as it is foretold"));
    layout->addWidget(plot_, 1);
    layout->addStretch(0);
    connect(begin_, &QPushButton::clicked, this,
            [this] { put(ForecastRequest{}, tr("foretell the next moments")); });
}

void ForecastPage::showAnswer(const std::shared_ptr<const Answer>& answer, bool fresh) {
    answer_ = answer;
    const bool asked = answer->question.forecast.has_value();
    const bool made = answer->forecast && *answer->forecast;
    begin_->setVisible(!asked);
    settings_->setVisible(asked);
    plot_->setVisible(made);
    message_->setVisible(asked && answer->forecast && !made);
    if (asked && answer->forecast && !made) {
        message_->setText(numbered(answer->forecast->error().text()));
    }
    if (asked) {
        build();
    }
    if (made) {
        plot_->showExhibit(forecastExhibit(*answer));
        plot_->setStale(!fresh);
    }
}

void ForecastPage::build() {
    const ForecastRequest& request = *answer_->question.forecast;
    std::vector<std::string> names;
    if (answer_->forecast && *answer_->forecast) {
        for (const auto& [name, way] : (*answer_->forecast)->goesOn) {
            names.push_back(name);
        }
    } else {
        for (const auto& [name, goes] : request.terms) {
            names.push_back(name);
        }
    }
    QString shape = QString("%1|%2").arg(text(answer_->question.id)).arg(request.moments);
    for (const std::string& name : names) {
        const auto at = request.terms.find(name);
        shape +=
            "|" + text(name) +
            (at == request.terms.end() ? QString() : text(at->second.way) + valuesText(at->second));
    }
    if (shape == built_) {
        return;
    }
    built_ = shape;
    while (QLayoutItem* item = grid_->takeAt(0)) {
        if (QWidget* widget = item->widget()) {
            widget->setParent(nullptr);
            widget->deleteLater();
        }
        delete item;
    }
    auto* moments = new QLineEdit(QString::number(request.moments), settings_);
    moments->setObjectName("forecast:moments");
    moments->setAccessibleName(tr("How many moments"));
    moments->setFixedWidth(64);
    moments->setAlignment(Qt::AlignRight);
    grid_->addWidget(new QLabel(tr("moments to come"), settings_), 0, 0);
    grid_->addWidget(moments, 0, 1, Qt::AlignLeft);
    auto* without = new QPushButton(tr("Take the forecast out"), settings_);
    without->setObjectName("forecast:out");
    grid_->addWidget(without, 0, 2, Qt::AlignLeft);
    connect(without, &QPushButton::clicked, this, [this] {
        if (const Question* present = session_.question()) {
            Question next = *present;
            next.forecast.reset();
            session_.putQuestion(next, tr("take the forecast out"));
        }
    });
    connect(moments, &QLineEdit::editingFinished, this, [this, moments] {
        bool ok = false;
        const int count = moments->text().trimmed().toInt(&ok);
        if (!moments->isModified()) {
            return;
        }
        moments->setModified(false);
        if (!ok || count < 1 || count > kMostMoments) {
            message_->setText(tr("‘%1’ is no number of moments from 1 to %2.")
                                  .arg(moments->text())
                                  .arg(kMostMoments));
            message_->show();
            return;
        }
        ForecastRequest next = *answer_->question.forecast;
        next.moments = count;
        put(next, tr("foretell %1 moments").arg(count));
    });
    int place = 0;
    for (const std::string& name : names) {
        const auto at = request.terms.find(name);
        auto* cell = new QWidget(settings_);
        auto* line = new QHBoxLayout(cell);
        line->setContentsMargins(0, 0, 0, 0);
        line->addWidget(new QLabel(text(name), cell));
        auto* way = new QComboBox(cell);
        way->setObjectName("forecast:way:" + text(name));
        way->setAccessibleName(tr("How %1 goes on").arg(text(name)));
        way->addItem(tr("as it was last"), QString());
        way->addItem(tr("at its mean"), QString("mean"));
        way->addItem(tr("as a year before"), QString("season"));
        way->addItem(tr("as given"), QString("values"));
        const std::string present = at == request.terms.end() ? "" : at->second.way;
        way->setCurrentIndex(
            std::max(way->findData(present == "last" ? QString() : text(present)), 0));
        auto* values = new QLineEdit(cell);
        values->setObjectName("forecast:values:" + text(name));
        values->setAccessibleName(tr("Values of %1, one a moment").arg(text(name)));
        values->setPlaceholderText(tr("1.2; 1.3; …"));
        values->setVisible(present == "values");
        if (at != request.terms.end()) {
            values->setText(valuesText(at->second));
        }
        line->addWidget(way);
        line->addWidget(values, 1);
        line->addStretch(0);
        grid_->addWidget(cell, 1 + place / kColumns, place % kColumns);
        ++place;
        connect(way, &QComboBox::activated, this, [this, way, values, name](int) {
            const QString chosen = way->currentData().toString();
            values->setVisible(chosen == "values");
            if (chosen == "values") {
                values->setFocus();
                return;  // Asked once something is given.
            }
            ForecastRequest next = *answer_->question.forecast;
            if (chosen.isEmpty()) {
                next.terms.erase(name);
            } else {
                next.terms[name] = GoesOn{utf8(chosen), {}};
            }
            put(next, tr("%1 goes on %2").arg(text(name), way->currentText()));
        });
        connect(values, &QLineEdit::editingFinished, this, [this, values, name] {
            if (values->isModified()) {
                values->setModified(false);
                takeValues(name, values->text());
            }
        });
    }
}

void ForecastPage::takeValues(const std::string& name, const QString& typed) {
    GoesOn goes{"values", {}};
    for (QString one : typed.split(QChar(';'), Qt::SkipEmptyParts)) {
        one = one.trimmed();
        const auto x = typedNumber(one);
        goes.values.push_back(x ? Key(*x) : Key(utf8(one)));
    }
    if (goes.values.empty()) {
        return;
    }
    ForecastRequest next = *answer_->question.forecast;
    next.terms[name] = std::move(goes);
    put(next, tr("%1 goes on as given").arg(text(name)));
}

void ForecastPage::put(const ForecastRequest& request, const QString& did) {
    const Question* present = session_.question();
    if (present == nullptr || !answer_ || present->id != answer_->question.id) {
        return;
    }
    Question next = *present;
    next.forecast = request;
    if (!(next.forecast == present->forecast)) {
        session_.putQuestion(next, did);
    }
}

std::vector<QString> ForecastPage::reading() const {
    std::vector<QString> out;
    if (!answer_ || !answer_->question.forecast) {
        out.push_back(
            tr("Where the outcome goes from the last moment on, with what is expected "
               "and where it lies itself."));
        return out;
    }
    for (const std::string& one : forecastReading(*answer_)) {
        out.push_back(richText(one));
    }
    return out;
}

std::vector<ReportItem> ForecastPage::forReport() const {
    if (!answer_ || !answer_->forecast || !*answer_->forecast) {
        return {};
    }
    ReportItem figure("figure", {answer_->question.id});
    figure.shows = "forecast";
    return {figure, {"forecast", {answer_->question.id}}};
}

}  // namespace rapporto::app
