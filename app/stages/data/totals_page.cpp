#include "app/stages/data/totals_page.h"

#include "app/plots/plot_view.h"
#include "app/shell/theme.h"
#include "core/base/format.h"
#include "core/describe/survey_mean.h"
#include "core/io/table_file.h"
#include "core/study/kept.h"

#include <QComboBox>
#include <QFileDialog>
#include <QFileInfo>
#include <QHBoxLayout>
#include <QHeaderView>
#include <QLabel>
#include <QLineEdit>
#include <QPushButton>
#include <QTableWidget>
#include <QVBoxLayout>

#include <algorithm>
#include <cmath>

namespace rapporto::app {
namespace {

enum Place { kVariable, kLevel, kRows, kDrawn, kKnown, kReached, kTimes, kPlaces };

QString shareText(double share) { return numbered(fixedNumber(share, 4)); }

QString caution(const QString& words) {
    return themed("<span style=\"color:{caution}\">" + words.toHtmlEscaped() + "</span>");
}

}  // namespace

TotalsPage::TotalsPage(Session& session, QWidget* parent)
    : DataPage(session, parent),
      method_(new QComboBox(this)),
      least_(new QLineEdit(this)),
      most_(new QLineEdit(this)),
      variable_(new QComboBox(this)),
      addShares_(actionWord(tr("its shares are known"), this)),
      addMean_(actionWord(tr("its mean is known"), this)),
      table_(new QTableWidget(0, kPlaces, this)),
      says_(softLine({}, this)),
      picture_(new PlotView(this)),
      keep_(actionWord(tr("keep the weights as a variable"), this)),
      looking_([this](const Found& found) { show(found); }) {
    auto* layout = new QVBoxLayout(this);
    layout->setContentsMargins(0, 4, 0, 0);
    layout->setSpacing(9);
    auto* sentence = new QHBoxLayout;
    sentence->addWidget(sentenceWord(tr("Reached by"), this));
    method_->addItem(tr("raking"), "raking");
    method_->addItem(tr("linear calibration"), "linear");
    method_->setObjectName("totals:method");
    method_->setAccessibleName(tr("How weights are brought to the totals"));
    sentence->addWidget(method_);
    sentence->addWidget(sentenceWord(tr("with each weight between"), this));
    for (auto& [edit, name, object] :
         {std::tuple{least_, tr("Least part of the weight drawn with"), "totals:least"},
          std::tuple{most_, tr("Most times the weight drawn with"), "totals:most"}}) {
        edit->setMaximumWidth(64);
        edit->setPlaceholderText(tr("any"));
        edit->setObjectName(object);
        edit->setAccessibleName(name);
        connect(edit, &QLineEdit::editingFinished, this, &TotalsPage::boundsEdited);
    }
    sentence->addWidget(least_);
    sentence->addWidget(sentenceWord(tr("and"), this));
    sentence->addWidget(most_);
    sentence->addWidget(sentenceWord(tr("times its own"), this));
    sentence->addStretch(1);
    layout->addLayout(sentence);
    auto* further = new QHBoxLayout;
    further->addWidget(softLine(tr("Of"), this));
    variable_->setObjectName("totals:variable");
    variable_->setAccessibleName(tr("A variable of which totals are known"));
    variable_->setMaximumWidth(200);
    further->addWidget(variable_);
    addShares_->setObjectName("totals:shares");
    addMean_->setObjectName("totals:mean");
    further->addWidget(addShares_);
    further->addWidget(addMean_);
    auto* from = actionWord(tr("from a table…"), this);
    from->setObjectName("totals:file");
    from->setToolTip(tr("a table with the columns variable, level and share or count, or mean"));
    further->addWidget(from);
    auto* out = actionWord(tr("take the chosen out"), this);
    out->setObjectName("totals:drop");
    further->addWidget(out);
    further->addStretch(1);
    keep_->setObjectName("totals:keep");
    further->addWidget(keep_);
    layout->addLayout(further);
    table_->setHorizontalHeaderLabels({tr("variable"), tr("level"), tr("rows"), tr("as drawn"),
                                       tr("known"), tr("reached"), tr("times")});
    table_->setObjectName("totals:table");
    table_->setAccessibleName(tr("Known totals"));
    dressTable(table_);
    table_->setSelectionBehavior(QAbstractItemView::SelectRows);
    table_->verticalHeader()->hide();
    for (const auto& [column, width] : {std::pair{kVariable, 130},
                                        {kLevel, 150},
                                        {kRows, 70},
                                        {kDrawn, 84},
                                        {kKnown, 84},
                                        {kReached, 84}}) {
        table_->setColumnWidth(column, width);
    }
    table_->horizontalHeader()->setSectionResizeMode(kLevel, QHeaderView::Stretch);
    for (int c = kRows; c < kPlaces; ++c) {
        table_->horizontalHeaderItem(c)->setTextAlignment(Qt::AlignRight | Qt::AlignVCenter);
    }
    layout->addWidget(table_, 5);
    says_->setObjectName("totals:says");
    dress(says_, "color:{ink}");
    layout->addWidget(says_);
    picture_->setObjectName("totals:picture");
    layout->addWidget(picture_, 5);
    connect(method_, &QComboBox::activated, this, [this] {
        Survey survey = session_.study().survey;
        survey.calibration = utf8(method_->currentData().toString());
        put(survey, tr("totals by %1").arg(method_->currentText()));
    });
    connect(variable_, &QComboBox::currentIndexChanged, this, [this] {
        const Column* column =
            shownFrame_ ? shownFrame_->column(utf8(variable_->currentData().toString())) : nullptr;
        addShares_->setEnabled(column != nullptr);
        addMean_->setEnabled(column != nullptr && !column->isText());
    });
    connect(addShares_, &QPushButton::clicked, this, [this] { add(false); });
    connect(addMean_, &QPushButton::clicked, this, [this] { add(true); });
    connect(out, &QPushButton::clicked, this, &TotalsPage::drop);
    connect(keep_, &QPushButton::clicked, this, &TotalsPage::keepWeights);
    connect(from, &QPushButton::clicked, this, [this] {
        const QString path = QFileDialog::getOpenFileName(this, tr("A table of known totals"));
        if (!path.isEmpty()) {
            takeFrom(path);
        }
    });
    // Beside the editor’s turn: what was typed may fill the table anew.
    connect(
        table_, &QTableWidget::cellChanged, this,
        [this](int row, int column) {
            if (column == kKnown && row < table_->rowCount()) {
                cellEdited(row);
            }
        },
        Qt::QueuedConnection);
}

void TotalsPage::refresh() {
    const auto frame = session_.frame();
    if (!frame) {
        return;
    }
    const Survey& survey = session_.study().survey;
    method_->setCurrentIndex(method_->findData(text(survey.calibration)));
    least_->setText(survey.bounds ? numbered(exactNumber(survey.bounds->first)) : QString());
    most_->setText(survey.bounds ? numbered(exactNumber(survey.bounds->second)) : QString());
    if (frame == shownFrame_ && survey == shownSurvey_) {
        return;
    }
    const std::string chosen = utf8(variable_->currentData().toString());
    shownFrame_ = frame;
    shownSurvey_ = survey;
    fillVariables(variable_, *frame, chosen, {}, [&survey](const Variable& v) {
        return v.name != survey.weight && v.measure != Measure::Text &&
               std::none_of(survey.targets.begin(), survey.targets.end(),
                            [&](const KnownTotal& one) { return one.variable == v.name; });
    });
    emit variable_->currentIndexChanged(variable_->currentIndex());
    if (frame->rows() > kRowsAtOnce) {
        says_->setText(tr("Looking at %1 rows…").arg(numbered(countText(frame->rows()))));
    }
    looking_.ask([frame, survey] { return look(*frame, survey); }, frame->rows() <= kRowsAtOnce);
}

TotalsPage::Found TotalsPage::look(const Frame& frame, const Survey& survey) {
    Found out;
    out.survey = survey;
    if (survey.targets.empty()) {
        return out;
    }
    if (auto rows = surveyRows(frame, survey)) {
        out.rows = std::make_shared<const SurveyRows>(*std::move(rows));
        out.facts = calibrationFacts(*out.rows);
        out.picture = calibrationPicture(*out.rows, out.facts);
    } else {
        out.refusal = rows.error();
    }
    return out;
}

void TotalsPage::show(const Found& found) {
    found_ = found;
    fillTable(found);
    const bool reached = found.rows != nullptr;
    keep_->setEnabled(reached);
    picture_->setVisible(reached);
    picture_->showExhibit(found.picture);
    if (found.survey.targets.empty()) {
        says_->setText(
            tr("Nothing is known of the population beside the sample: weights stay as "
               "they were drawn. Choose a variable whose shares or mean a census "
               "gives."));
    } else if (found.refusal) {
        says_->setText(caution(numbered(found.refusal->text())));
    } else {
        const CalibrationFacts& f = found.facts;
        QString words =
            tr("Weights of %1 became <b>%2</b> to <b>%3</b> times what they were. Their spread "
               "makes the rows worth <b>%4</b> drawn with equal chance (design effect of the "
               "weights %5, %6 before).")
                .arg(numbered(plural(f.rows, "row", "rows")), numbered(fixedNumber(f.lowest, 2)),
                     numbered(fixedNumber(f.highest, 2)),
                     numbered(countText(static_cast<std::size_t>(f.effectiveRows + 0.5))),
                     numbered(fixedNumber(f.effectAfter, 2)),
                     numbered(fixedNumber(f.effectBefore, 2)));
        if (f.atBounds > 0) {
            words += tr(" %1 at a bound.").arg(numbered(plural(f.atBounds, "row is", "rows are")));
        }
        if (f.highest > 5.0 && !found.survey.bounds) {
            words +=
                themed(tr(" <span style=\"color:{caution}\">A few rows speak for many: set "
                          "bounds, or bring small levels together.</span>"));
        }
        says_->setText(words);
    }
    emit readingChanged();
}

void TotalsPage::fillTable(const Found& found) {
    const QSignalBlocker quiet(table_);
    table_->setRowCount(0);
    const auto cell = [this](int row, int column, const QString& value, bool editable = false) {
        auto* item = new QTableWidgetItem(value);
        item->setFlags(Qt::ItemIsEnabled | Qt::ItemIsSelectable |
                       (editable ? Qt::ItemIsEditable : Qt::NoItemFlags));
        if (column >= kRows) {
            item->setTextAlignment(Qt::AlignRight | Qt::AlignVCenter);
        }
        if (editable) {
            item->setForeground(colour::kAccent);
        }
        table_->setItem(row, column, item);
    };
    const auto factOf = [&](const std::string& variable, const std::string& level,
                            std::size_t place) -> const CalibrationFacts::Total* {
        std::size_t at = 0;
        const CalibrationFacts::Total* byPlace = nullptr;
        for (const CalibrationFacts::Total& one : found.facts.totals) {
            if (one.variable != variable) {
                continue;
            }
            if (one.level == level) {
                return &one;
            }
            byPlace = at++ == place ? &one : byPlace;
        }
        return byPlace;
    };
    for (const KnownTotal& target : found.survey.targets) {
        const std::size_t many = target.mean ? 1 : target.shares.size();
        for (std::size_t l = 0; l < many; ++l) {
            const std::string level = target.mean ? "" : target.shares[l].first;
            const double known = target.mean ? *target.mean : target.shares[l].second;
            const int row = table_->rowCount();
            table_->insertRow(row);
            cell(row, kVariable, l == 0 ? text(target.variable) : QString());
            cell(row, kLevel, target.mean ? tr("mean") : text(level));
            cell(row, kKnown, numbered(target.mean ? shortNumber(known, 6) : exactNumber(known)),
                 true);
            table_->item(row, kVariable)->setData(Qt::UserRole, text(target.variable));
            table_->item(row, kLevel)->setData(Qt::UserRole, static_cast<int>(l));
            const auto* fact = factOf(target.variable, level, l);
            const auto shown = [&](double value) {
                return target.mean ? numbered(shortNumber(value, 6)) : shareText(value);
            };
            cell(row, kRows, fact == nullptr ? "–" : numbered(countText(fact->rows)));
            cell(row, kDrawn, fact == nullptr ? "–" : shown(fact->drawn));
            cell(row, kReached, fact == nullptr ? "–" : shown(fact->reached));
            cell(row, kTimes,
                 fact == nullptr || target.mean || fact->drawn <= 0.0
                     ? QString()
                     : numbered(fixedNumber(fact->reached / fact->drawn, 2)));
        }
    }
}

void TotalsPage::put(const Survey& survey, const QString& did) {
    session_.edit(SetSurvey{survey}, did);
}

void TotalsPage::add(bool mean) {
    const std::string name = utf8(variable_->currentData().toString());
    if (!shownFrame_ || shownFrame_->column(name) == nullptr) {
        return;
    }
    auto target = drawnTotal(*shownFrame_, session_.study().survey, name, mean);
    if (!target) {
        says_->setText(caution(numbered(target.error().text())));
        return;
    }
    Survey survey = session_.study().survey;
    survey.targets.push_back(*std::move(target));
    put(survey, mean ? tr("the mean of %1 is known").arg(text(name))
                     : tr("the shares of %1 are known").arg(text(name)));
}

void TotalsPage::drop() {
    const int row = table_->currentRow();
    if (row < 0) {
        says_->setText(tr("Choose a row of what is to be taken out."));
        return;
    }
    const std::string name = utf8(table_->item(row, kVariable)->data(Qt::UserRole).toString());
    Survey survey = session_.study().survey;
    std::erase_if(survey.targets, [&](const KnownTotal& one) { return one.variable == name; });
    put(survey, tr("nothing is known of %1").arg(text(name)));
}

void TotalsPage::cellEdited(int row) {
    const std::string name = utf8(table_->item(row, kVariable)->data(Qt::UserRole).toString());
    const auto level =
        static_cast<std::size_t>(table_->item(row, kLevel)->data(Qt::UserRole).toInt());
    const QString typed = table_->item(row, kKnown)->text().trimmed();
    QString plain = typed;
    const bool percent = plain.endsWith('%');
    plain.remove('%');
    auto number = typedNumber(plain);
    Survey survey = session_.study().survey;
    const auto target = std::find_if(survey.targets.begin(), survey.targets.end(),
                                     [&](const KnownTotal& one) { return one.variable == name; });
    if (target == survey.targets.end() || (!target->mean && level >= target->shares.size())) {
        return;
    }
    if (number && percent) {
        number = *number / 100.0;
    }
    if (!number && typed.isEmpty() && !target->mean) {
        // An empty one takes what the others leave.
        double rest = 1.0;
        for (std::size_t l = 0; l < target->shares.size(); ++l) {
            rest -= l == level ? 0.0 : target->shares[l].second;
        }
        number = std::max(std::round(rest * 1e10) / 1e10, 0.0);
    }
    if (!number) {
        fillTable(found_);
        says_->setText(caution(tr("“%1” is no number.").arg(typed)));
        return;
    }
    (target->mean ? *target->mean : target->shares[level].second) = *number;
    put(survey, target->mean
                    ? tr("the mean of %1 is %2").arg(text(name), typed)
                    : tr("the share of %1 is %2")
                          .arg(text(target->shares[level].first), text(exactNumber(*number))));
}

void TotalsPage::boundsEdited() {
    const auto least = typedNumber(least_->text());
    const auto most = typedNumber(most_->text());
    const bool none = least_->text().trimmed().isEmpty() && most_->text().trimmed().isEmpty();
    Survey survey = session_.study().survey;
    if (none) {
        survey.bounds.reset();
    } else if (least && most && *least >= 0.0 && *least < 1.0 && *most > 1.0) {
        survey.bounds = {*least, *most};
    } else {
        // Half a pair is not an error yet.
        const bool half = least_->text().trimmed().isEmpty() || most_->text().trimmed().isEmpty();
        says_->setText(half ? tr("Bounds are two numbers, as 0.3 and 3.")
                            : caution(tr("The least lies from 0 to under 1, the most above 1.")));
        return;
    }
    if (survey.bounds != session_.study().survey.bounds) {
        put(survey, survey.bounds ? tr("weights between %1 and %2 times")
                                        .arg(least_->text().trimmed(), most_->text().trimmed())
                                  : tr("weights without bounds"));
    }
}

void TotalsPage::takeFrom(const QString& path) {
    const auto read = readTableFile(utf8(path), ReaderOptions{}, Job());
    const auto totals = read ? knownTotalsOf(read->table)
                             : Result<std::vector<KnownTotal>>(tl::make_unexpected(read.error()));
    if (!totals) {
        says_->setText(caution(numbered(totals.error().text())));
        return;
    }
    Survey survey = session_.study().survey;
    survey.targets = *totals;
    put(survey, tr("totals of %1").arg(QFileInfo(path).fileName()));
}

void TotalsPage::keepWeights() {
    if (!found_.rows || !shownFrame_) {
        return;
    }
    std::set<std::string> taken;
    for (const Variable& v : shownFrame_->table().variables) {
        taken.insert(v.name);
    }
    const KeptColumn column = keptWeights(*found_.rows, taken);
    session_.edit(PutKept{column}, tr("keep the weights as %1").arg(text(column.name)));
}

ReadingContent TotalsPage::reading() const {
    ReadingContent content;
    content.title = tr("known totals");
    content.paragraphs
        << tr("A census knows how many people live where, how old they are. Weights that hit such "
              "totals make up for who was hard to reach, <b>as far as those who answered speak for "
              "those of their own level who did not</b>.")
        << tr("Raking stretches each weight by a product of one factor a level; it never turns a "
              "weight negative. Linear calibration adds. Within bounds no row comes to speak for "
              "too many.")
        << tr("Errors by the survey design know of it: what the totals foretell of an outcome is "
              "no longer uncertain. Pictures, summaries and questions with such errors use these "
              "weights at once.");
    return content;
}

}  // namespace rapporto::app
