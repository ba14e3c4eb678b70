#include "app/stages/model/predict_page.h"

#include "app/shell/theme.h"
#include "core/base/format.h"
#include "core/base/shown_names.h"
#include "core/picture/axis.h"
#include "core/report/request_wording.h"

#include <QCollator>
#include <QComboBox>
#include <QGridLayout>
#include <QLabel>
#include <QLineEdit>
#include <QMouseEvent>
#include <QPainter>
#include <QPushButton>
#include <QScrollArea>
#include <QSlider>
#include <QVBoxLayout>

#include <cmath>

namespace rapporto::app {
namespace {

constexpr int kSteps = 400;
constexpr std::size_t kMostScenarios = 4;
constexpr double kBarRow = 46.0;

QString scenarioName(const Prediction& p, std::size_t i) {
    return p.label.empty() ? QObject::tr("scenario %1").arg(i + 1) : text(p.label);
}

/// What a prediction says in the outcome’s own units.
struct Shown {
    double value, low, high, rowLow, rowHigh;
    bool row = true;  ///< Where a single row lies is known.
};

Shown shownOf(const Prediction& p) {
    if (!p.original && !std::isfinite(p.rowLow)) {
        return {p.mean.value, p.mean.low, p.mean.high, p.mean.low, p.mean.high, false};
    }
    return p.original ? Shown{p.original->mean, p.original->low, p.original->high,
                              p.original->rowLow, p.original->rowHigh}
                      : Shown{p.mean.value, p.mean.low, p.mean.high, p.rowLow, p.rowHigh};
}

const QColor& colourOf(std::size_t i) {
    static const std::array kColours = {&colour::kBlue, &colour::kOchre, &colour::kPlum,
                                        &colour::kMoss};
    return *kColours[i % 4];
}

/// What a scenario can name: variables of the terms, then groups of random effects.
std::vector<ScenarioVariable> rowsOf(const ScenarioMap& map) {
    std::vector<ScenarioVariable> out = map.variables();
    for (const ScenarioVariable& grouping : map.groupings()) {
        if (map.find(grouping.name) == nullptr) {
            out.push_back(grouping);
        }
    }
    return out;
}

}  // namespace

PredictionBars::PredictionBars(QWidget* parent) : QWidget(parent) {
    setAccessibleName(tr("Predictions"));
    tellParts();
}

void PredictionBars::showPredictions(std::vector<Prediction> predictions, const QString& axis,
                                     int chosen) {
    predictions_ = std::move(predictions);
    axis_ = axis;
    chosen_ = chosen;
    setFixedHeight(static_cast<int>(kBarRow * static_cast<double>(predictions_.size())) + 44);
    QStringList said;
    for (std::size_t i = 0; i < predictions_.size(); ++i) {
        said << QString("%1: %2").arg(scenarioName(predictions_[i], i),
                                      numbered(shortNumber(shownOf(predictions_[i]).value)));
    }
    setAccessibleDescription(said.join("; "));
    update();
}

std::vector<ToldPart> PredictionBars::toldParts() {
    std::vector<ToldPart> out;
    for (std::size_t i = 0; i < predictions_.size(); ++i) {
        const Shown s = shownOf(predictions_[i]);
        ToldPart part;
        part.place = QRectF(0, kBarRow * static_cast<double>(i) + 4, width(), kBarRow).toRect();
        part.name = tr("%1: %2, from %3 to %4")
                        .arg(scenarioName(predictions_[i], i), numbered(shortNumber(s.value, 4)),
                             numbered(shortNumber(s.low, 4)), numbered(shortNumber(s.high, 4)));
        if (s.row) {
            part.name +=
                tr("; a row: %1 to %2")
                    .arg(numbered(shortNumber(s.rowLow, 3)), numbered(shortNumber(s.rowHigh, 3)));
        }
        part.chosen = static_cast<int>(i) == chosen_;
        part.press = [this, i] { emit chosen(static_cast<int>(i)); };
        out.push_back(std::move(part));
    }
    return out;
}

void PredictionBars::paintEvent(QPaintEvent* /*event*/) {
    QPainter painter(this);
    painter.setRenderHint(QPainter::Antialiasing);
    if (predictions_.empty()) {
        return;
    }
    double low = std::numeric_limits<double>::infinity();
    double high = -low;
    for (const Prediction& p : predictions_) {
        low = std::min(low, shownOf(p).rowLow);
        high = std::max(high, shownOf(p).rowHigh);
    }
    // A perfect fit has intervals without length.
    const double margin = high > low ? 0.04 * (high - low) : std::max(0.1 * std::abs(low), 1.0);
    low -= margin;
    high += margin;
    const QRectF area(120, 4, width() - 120 - 230,
                      kBarRow * static_cast<double>(predictions_.size()));
    const auto at = [&](double v) { return area.left() + (v - low) / (high - low) * area.width(); };
    // Round places along the axis.
    painter.setFont(interfaceFont(11));
    for (const Tick& tick : ticksOn(AxisScale::Number, low, high, 5)) {
        painter.setPen(QPen(colour::kHairline, 1));
        painter.drawLine(QPointF(at(tick.at), area.top()), QPointF(at(tick.at), area.bottom()));
        painter.setPen(colour::kSoft);
        painter.drawText(QRectF(at(tick.at) - 40, area.bottom() + 2, 80, 14), Qt::AlignCenter,
                         numbered(tick.text));
    }
    painter.drawText(QRectF(area.left(), area.bottom() + 17, area.width(), 16), Qt::AlignCenter,
                     axis_);
    for (std::size_t i = 0; i < predictions_.size(); ++i) {
        const Shown s = shownOf(predictions_[i]);
        const double y = area.top() + kBarRow * (static_cast<double>(i) + 0.5);
        if (static_cast<int>(i) == chosen_) {
            painter.fillRect(QRectF(0, y - kBarRow / 2 + 2, width(), kBarRow - 4),
                             colour::kAccentWash);
        }
        painter.setPen(QPen(colourOf(i), 1.5));
        painter.drawLine(QPointF(at(s.rowLow), y), QPointF(at(s.rowHigh), y));
        painter.setPen(Qt::NoPen);
        painter.setBrush(colourOf(i));
        painter.drawRect(QRectF(at(s.low), y - 4, std::max(at(s.high) - at(s.low), 2.0), 8));
        painter.setBrush(colour::kInk);
        painter.drawRect(QRectF(at(s.value) - 1.25, y - 9, 2.5, 18));
        painter.setFont(interfaceFont(13, true));
        painter.setPen(colourOf(i));
        painter.drawText(QRectF(8, y - 10, 106, 20), Qt::AlignLeft | Qt::AlignVCenter,
                         painter.fontMetrics().elidedText(scenarioName(predictions_[i], i),
                                                          Qt::ElideRight, 104));
        painter.setPen(colour::kInk);
        const QRectF digits(area.right() + 16, y - 17, 210, 18);
        painter.drawText(digits, Qt::AlignLeft | Qt::AlignVCenter,
                         numbered(shortNumber(s.value, 4)));
        const int used = painter.fontMetrics().horizontalAdvance(numbered(shortNumber(s.value, 4)));
        painter.setFont(interfaceFont(12));
        painter.setPen(colour::kSoft);
        painter.drawText(
            digits.adjusted(used + 8, 0, 0, 0), Qt::AlignLeft | Qt::AlignVCenter,
            tr("%1 to %2").arg(numbered(shortNumber(s.low, 4)), numbered(shortNumber(s.high, 4))));
        if (!s.row) {
            continue;
        }
        painter.drawText(
            digits.translated(0, 17), Qt::AlignLeft | Qt::AlignVCenter,
            tr("a row: %1 to %2")
                .arg(numbered(shortNumber(s.rowLow, 3)), numbered(shortNumber(s.rowHigh, 3))));
    }
}

void PredictionBars::mousePressEvent(QMouseEvent* event) {
    const int row = static_cast<int>((event->position().y() - 4) / kBarRow);
    if (row >= 0 && row < static_cast<int>(predictions_.size())) {
        emit chosen(row);
    }
}

PredictPage::PredictPage(Session& session, QWidget* parent)
    : QWidget(parent),
      session_(session),
      sheet_(new QWidget),
      grid_(new QGridLayout(sheet_)),
      bars_(new PredictionBars(this)),
      message_(new QLabel(this)) {
    auto* layout = new QVBoxLayout(this);
    layout->setContentsMargins(0, 4, 0, 0);
    auto* scroll = new QScrollArea(this);
    scroll->setWidgetResizable(true);
    scroll->setFrameShape(QFrame::NoFrame);
    scroll->setFocusPolicy(Qt::NoFocus);
    scroll->setWidget(sheet_);
    layout->addWidget(scroll, 1);
    message_->setWordWrap(true);
    dress(message_, "color:{caution}");
    message_->setObjectName("predict:message");
    layout->addWidget(message_);
    layout->addWidget(bars_);
    grid_->setHorizontalSpacing(14);
    grid_->setVerticalSpacing(4);
    connect(bars_, &PredictionBars::chosen, this, [this](int scenario) {
        chosen_ = scenario;
        predict();
        emit changed();
    });
}

void PredictPage::showAnswer(const std::shared_ptr<const Answer>& answer) {
    answer_ = answer;
    if (!answer_ || !answer_->scenarios) {
        return;
    }
    requests_ = answer_->question.predict;
    if (requests_.empty()) {
        requests_.emplace_back();
    }
    if (requests_.size() > kMostScenarios) {
        requests_.resize(kMostScenarios);  // The others stay in the study; keep() puts them back.
    }
    chosen_ = std::min(chosen_, static_cast<int>(requests_.size()) - 1);
    std::string shape = answer_->question.id + "|" + std::to_string(requests_.size());
    for (const ScenarioVariable& v : rowsOf(*answer_->scenarios)) {
        shape += "|" + v.name +
                 (v.groups    ? "g"
                  : v.yesNo() ? "y"
                              : "q") +
                 std::to_string(v.levels.size());
    }
    if (shape != shape_) {
        shape_ = shape;
        build();
    }
    // Values into the cells, but not under the hand that is changing one.
    filling_ = true;
    for (std::size_t s = 0; s < requests_.size(); ++s) {
        for (const ScenarioVariable& v : rowsOf(*answer_->scenarios)) {
            const auto at = requests_[s].at.find(v.name);
            const QString key = QString("%1:%2").arg(s).arg(text(v.name));
            if (auto* picker = findChild<QComboBox*>("predict:" + key)) {
                int index = 0;
                for (int i = 1; at != requests_[s].at.end() && i < picker->count(); ++i) {
                    const QVariant item = picker->itemData(i);
                    const bool same = item.typeId() == QMetaType::Double
                                          ? at->second == Key(item.toDouble())
                                          : keyText(at->second) == utf8(item.toString());
                    index = same ? i : index;
                }
                picker->setCurrentIndex(index);
                continue;
            }
            auto* slider = findChild<QSlider*>("predict:slider:" + key);
            auto* edit = findChild<QLineEdit*>("predict:" + key);
            if (slider == nullptr || edit == nullptr) {
                continue;
            }
            const bool named = at != requests_[s].at.end();
            const double x = named && std::holds_alternative<double>(at->second)
                                 ? std::get<double>(at->second)
                                 : v.mean;
            if (!slider->isSliderDown()) {
                slider->setValue(static_cast<int>(
                    std::lround((x - v.low) / std::max(v.high - v.low, 1e-300) * kSteps)));
            }
            if (!edit->hasFocus() || !edit->isModified()) {
                edit->setText(named ? numbered(shortNumber(x, 5)) : QString());
            }
        }
    }
    filling_ = false;
    predict();
}

void PredictPage::build() {
    while (QLayoutItem* item = grid_->takeAt(0)) {
        if (QWidget* widget = item->widget()) {
            widget->setParent(nullptr);
            widget->deleteLater();
        }
        delete item;
    }
    int row = 0;
    for (std::size_t s = 0; s < requests_.size(); ++s) {
        auto* head = new QLineEdit(sheet_);
        head->setObjectName(QString("predict:label:%1").arg(s));
        head->setPlaceholderText(tr("scenario %1").arg(s + 1));
        head->setText(text(requests_[s].label));
        head->setStyleSheet(
            QString("QLineEdit{border:none;background:transparent;font-weight:bold;color:%1}")
                .arg(colourOf(s).name()));
        head->setAccessibleName(tr("Name of scenario %1").arg(s + 1));
        grid_->addWidget(head, row, static_cast<int>(s) + 1);
        connect(head, &QLineEdit::editingFinished, this, [this, s, head] {
            if (s < requests_.size() && requests_[s].label != utf8(head->text())) {
                requests_[s].label = utf8(head->text());
                keep(tr("name a scenario"));
            }
        });
    }
    auto* more = new QPushButton(tr("+ scenario"), sheet_);
    more->setObjectName("predict:more");
    more->setVisible(requests_.size() < kMostScenarios);
    connect(more, &QPushButton::clicked, this, [this] {
        requests_.push_back(requests_.back());
        requests_.back().label.clear();
        chosen_ = static_cast<int>(requests_.size()) - 1;
        keep(tr("add a scenario"));
    });
    auto* less = new QPushButton(tr("− last"), sheet_);
    less->setObjectName("predict:less");
    less->setVisible(requests_.size() > 1);
    connect(less, &QPushButton::clicked, this, [this] {
        requests_.pop_back();
        keep(tr("take a scenario out"));
    });
    auto* buttons = new QWidget(sheet_);
    auto* line = new QHBoxLayout(buttons);
    line->setContentsMargins(0, 0, 0, 0);
    line->addWidget(more);
    line->addWidget(less);
    line->addStretch(1);
    grid_->addWidget(buttons, row, 0);
    ++row;
    for (const ScenarioVariable& v : rowsOf(*answer_->scenarios)) {
        auto* name = new QLabel(sheet_);
        name->setText(
            themed(QString("<b>%1</b>%2")
                       .arg(termText(v.name).toHtmlEscaped(),
                            v.unit.empty() ? QString()
                                           : " <span style=\"color:{soft}\">" +
                                                 text(v.unit).toHtmlEscaped() + "</span>")));
        name->setToolTip(text(v.label));
        grid_->addWidget(name, row, 0);
        for (std::size_t s = 0; s < requests_.size(); ++s) {
            addCell(row, static_cast<int>(s), v);
        }
        ++row;
    }
    grid_->setRowStretch(row, 1);
    for (int c = 1; c <= static_cast<int>(kMostScenarios); ++c) {
        grid_->setColumnStretch(c, c <= static_cast<int>(requests_.size()) ? 1 : 0);
    }
}

void PredictPage::addCell(int row, int scenario, const ScenarioVariable& v) {
    const QString key = QString("%1:%2").arg(scenario).arg(text(v.name));
    const std::string name = v.name;
    if (v.groups || v.yesNo()) {
        auto* picker = new QComboBox(sheet_);
        picker->setObjectName("predict:" + key);
        picker->setAccessibleName(tr("%1 in scenario %2").arg(text(v.name)).arg(scenario + 1));
        const bool random = answer_->scenarios->find(name) == nullptr;
        if (random) {
            // Of groups that share their name the label says which is meant.
            picker->addItem(tr("a new one"));
            QStringList labels;
            for (const FoundLevel& group : v.levels) {
                labels << text(group.label);
            }
            QCollator order;
            order.setNumericMode(true);
            std::sort(labels.begin(), labels.end(), order);
            for (const QString& label : labels) {
                picker->addItem(label, label);
            }
        } else if (v.groups) {
            picker->addItem(tr("%1 (base)").arg(text(v.levels[v.base].label)));
            for (std::size_t l = 0; l < v.levels.size(); ++l) {
                if (l != v.base) {
                    picker->addItem(text(v.levels[l].label), text(v.levels[l].value));
                }
            }
        } else {
            picker->addItem(tr("as in the rows (%1)").arg(numbered(fixedNumber(v.mean, 2, true))));
            picker->addItem(tr("no"), 0.0);
            picker->addItem(tr("yes"), 1.0);
        }
        grid_->addWidget(picker, row, scenario + 1);
        connect(picker, &QComboBox::activated, this, [this, picker, scenario, name](int index) {
            std::optional<Key> value;
            if (index > 0) {
                const QVariant item = picker->itemData(index);
                value = item.typeId() == QMetaType::Double ? Key(item.toDouble())
                                                           : Key(utf8(item.toString()));
            }
            setValue(scenario, name, value, true);
        });
        return;
    }
    auto* cell = new QWidget(sheet_);
    auto* line = new QHBoxLayout(cell);
    line->setContentsMargins(0, 0, 0, 0);
    auto* slider = new QSlider(Qt::Horizontal, cell);
    slider->setObjectName("predict:slider:" + key);
    slider->setRange(0, kSteps);
    slider->setAccessibleName(tr("%1 in scenario %2").arg(text(v.name)).arg(scenario + 1));
    slider->setToolTip(tr("%1 to %2 in the rows used")
                           .arg(numbered(shortNumber(v.low)), numbered(shortNumber(v.high))));
    auto* edit = new QLineEdit(cell);
    edit->setObjectName("predict:" + key);
    edit->setFixedWidth(74);
    edit->setAlignment(Qt::AlignRight);
    edit->setPlaceholderText(numbered(shortNumber(v.mean, 3)));
    edit->setToolTip(tr("left empty: the mean"));
    edit->setAccessibleName(tr("%1 in scenario %2, typed").arg(text(v.name)).arg(scenario + 1));
    line->addWidget(slider, 1);
    line->addWidget(edit);
    grid_->addWidget(cell, row, scenario + 1);
    const double low = v.low;
    const double high = v.high;
    const bool whole = v.measure == Measure::Count;
    const auto valueAt = [low, high, whole](int place) {
        const double x = low + (high - low) * place / kSteps;
        return whole ? std::round(x) : x;
    };
    connect(slider, &QSlider::valueChanged, this,
            [this, slider, edit, scenario, name, valueAt](int place) {
                if (filling_) {
                    return;
                }
                edit->setText(numbered(shortNumber(valueAt(place), 5)));
                // The keyboard moves it in one go; the mouse keeps it when it lets go.
                setValue(scenario, name, Key(valueAt(place)), !slider->isSliderDown());
            });
    connect(slider, &QSlider::sliderReleased, this, [this, slider, scenario, name, valueAt] {
        setValue(scenario, name, Key(valueAt(slider->value())), true);
    });
    connect(edit, &QLineEdit::editingFinished, this, [this, edit, scenario, name] {
        if (!edit->isModified()) {
            return;
        }
        edit->setModified(false);
        const QString typed = edit->text().trimmed();
        if (typed.isEmpty()) {
            setValue(scenario, name, std::nullopt, true);
        } else if (const auto x = typedNumber(typed)) {
            setValue(scenario, name, Key(*x), true);
        } else {
            problem_ = tr("‘%1’ is no number.").arg(typed);
            predict();
        }
    });
}

void PredictPage::setValue(int scenario, const std::string& name, std::optional<Key> value,
                           bool keepIt) {
    const auto s = static_cast<std::size_t>(scenario);
    problem_.clear();
    if (filling_ || s >= requests_.size()) {
        return;
    }
    if (value) {
        requests_[s].at[name] = *value;
    } else {
        requests_[s].at.erase(name);
    }
    chosen_ = scenario;
    predict();
    if (keepIt && predictions_.size() == requests_.size()) {
        keep(tr("predict at %1").arg(text(scenarioText(*answer_->scenarios, requests_[s].at))));
    }
    emit changed();
}

void PredictPage::predict() {
    predictions_.clear();
    if (!answer_ || !answer_->scenarios || !answer_->fit) {
        return;
    }
    std::vector<PredictRequest> requests = requests_;
    for (PredictRequest& request : requests) {
        std::erase_if(request.at,
                      [&](const auto& one) { return !answer_->scenarios->knows(one.first); });
    }
    const auto predicted =
        predictAt(*answer_->design, *answer_->fit, *answer_->scenarios, requests, answer_->alpha);
    message_->setVisible(!predicted || !problem_.isEmpty());
    message_->setText(predicted ? problem_ : numbered(predicted.error().text()));
    if (!predicted) {
        return;
    }
    predictions_ = *predicted;
    const Design& d = *answer_->design;
    const QString axis =
        d.outcomeLogOf.empty()
            ? text(shownNames(d.outcome) + (d.outcomeUnit.empty() ? "" : ", " + d.outcomeUnit))
            : termText(d.outcomeLogOf);
    bars_->showPredictions(predictions_, axis, chosen_);
}

void PredictPage::keep(const QString& did) {
    Question next = answer_->question;
    // More scenarios than the page shows stay behind those it does.
    std::vector<PredictRequest> all = requests_;
    for (std::size_t i = kMostScenarios; i < next.predict.size(); ++i) {
        all.push_back(next.predict[i]);
    }
    if (const Question* present = session_.question();
        present != nullptr && present->id == next.id && present->predict != all) {
        next = *present;
        next.predict = std::move(all);
        session_.putQuestion(next, did);
    }
}

std::vector<QString> PredictPage::reading() const {
    std::vector<QString> out;
    if (!answer_ || predictions_.empty()) {
        return out;
    }
    Answer shown = *answer_;
    shown.predictions = predictions_;
    for (const std::string& p : predictionReading(shown, static_cast<std::size_t>(chosen_))) {
        out.push_back(richText(p));
    }
    return out;
}

}  // namespace rapporto::app
