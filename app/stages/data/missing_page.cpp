#include "app/stages/data/missing_page.h"

#include "app/plots/plot_view.h"
#include "app/shell/theme.h"
#include "core/base/format.h"
#include "core/impute/pictures.h"
#include "core/report/missing_wording.h"
#include "core/study/missing_proposal.h"

#include <QButtonGroup>
#include <QHBoxLayout>
#include <QHeaderView>
#include <QLabel>
#include <QLineEdit>
#include <QMenu>
#include <QPushButton>
#include <QSpinBox>
#include <QTableWidget>
#include <QVBoxLayout>

#include <algorithm>
#include <cmath>

namespace rapporto::app {
namespace {

enum Place { kVariable, kGaps, kShare, kFilled, kForetells, kPlaces };

enum Picture { kTogether, kPaths, kBeside, kShift };

/// “age, ln(revenue)” as its parts; commas in brackets part nothing.
std::vector<std::string> partsOf(const QString& typed) {
    std::vector<std::string> out;
    QString part;
    int depth = 0;
    const auto end = [&] {
        if (!part.trimmed().isEmpty()) {
            out.push_back(utf8(part.trimmed()));
        }
        part.clear();
    };
    for (const QChar c : typed) {
        depth += c == '(' ? 1 : c == ')' ? -1 : 0;
        if (c == ',' && depth <= 0) {
            end();
        } else {
            part += c;
        }
    }
    end();
    return out;
}

bool isColumn(const Frame& frame, const std::string& text) {
    const auto parsed = Expression::parse(text);
    const Variable* variable =
        parsed && parsed->isName() ? frame.variable(*parsed->names().begin()) : nullptr;
    return variable != nullptr;
}

std::string nameIn(const std::string& text) {
    const auto parsed = Expression::parse(text);
    return parsed && parsed->isName() ? *parsed->names().begin() : std::string();
}

QSpinBox* counter(int low, int high, const QString& name, const QString& words, QWidget* parent) {
    auto* box = new QSpinBox(parent);
    box->setRange(low, high);
    box->setObjectName(name);
    box->setAccessibleName(words);
    box->setKeyboardTracking(false);
    return box;
}

}  // namespace

MissingPage::MissingPage(Session& session, QWidget* parent)
    : DataPage(session, parent),
      sets_(counter(2, 1000, "missing:sets", tr("How many sets"), this)),
      rounds_(counter(1, 1000, "missing:rounds", tr("Rounds before a set is taken"), this)),
      donors_(counter(1, 100, "missing:donors", tr("Nearest rows that one is drawn from"), this)),
      further_(new QLineEdit(this)),
      propose_(actionWord(tr("fill in what the questions use"), this)),
      make_(actionWord(tr("fill in now"), this)),
      ask_(actionWord(tr("ask with what is filled in"), this)),
      table_(new QTableWidget(0, kPlaces, this)),
      says_(softLine({}, this)),
      pictures_(new QButtonGroup(this)),
      picture_(new PlotView(this)),
      looking_([this](const Looked& looked) { show(looked); }),
      making_([this](const Made& made) { showMade(made); }),
      shifting_([this](const Shifted& shifted) {
          shifted_ = shifted;
          showPicture();
          emit readingChanged();
      }) {
    auto* layout = new QVBoxLayout(this);
    layout->setContentsMargins(0, 4, 0, 0);
    layout->setSpacing(8);
    auto* sentence = new QHBoxLayout;
    sentence->addWidget(sentenceWord(tr("Fill in"), this));
    sentence->addWidget(sets_);
    sentence->addWidget(sentenceWord(tr("times, each after"), this));
    sentence->addWidget(rounds_);
    sentence->addWidget(sentenceWord(tr("rounds, from the"), this));
    sentence->addWidget(donors_);
    sentence->addWidget(sentenceWord(tr("nearest rows"), this));
    sentence->addStretch(1);
    layout->addLayout(sentence);
    auto* further = new QHBoxLayout;
    further->addWidget(softLine(tr("foretold also by"), this));
    further_->setObjectName("missing:further");
    further_->setAccessibleName(tr("Expressions that foretell, beside the variables"));
    further_->setPlaceholderText(tr("expressions, such as ln(revenue)"));
    further_->setFixedWidth(230);
    further->addWidget(further_);
    further->addStretch(1);
    propose_->setObjectName("missing:propose");
    make_->setObjectName("missing:make");
    ask_->setObjectName("missing:ask");
    further->addWidget(propose_);
    further->addWidget(make_);
    further->addWidget(ask_);
    layout->addLayout(further);
    table_->setHorizontalHeaderLabels(
        {tr("variable"), tr("missing"), tr("share"), tr("is filled in by"), tr("foretells")});
    table_->setObjectName("missing:table");
    table_->setAccessibleName(tr("Variables and their missing answers"));
    dressTable(table_);
    table_->setSelectionBehavior(QAbstractItemView::SelectRows);
    table_->setSelectionMode(QAbstractItemView::SingleSelection);
    table_->verticalHeader()->hide();
    for (const auto& [column, width] :
         {std::pair{kGaps, 76}, {kShare, 76}, {kFilled, 230}, {kForetells, 90}}) {
        table_->setColumnWidth(column, width);
    }
    table_->horizontalHeader()->setSectionResizeMode(kVariable, QHeaderView::Stretch);
    for (const int c : {kGaps, kShare}) {
        table_->horizontalHeaderItem(c)->setTextAlignment(Qt::AlignRight | Qt::AlignVCenter);
    }
    layout->addWidget(table_, 5);
    says_->setObjectName("missing:says");
    dress(says_, "color:{ink}");
    layout->addWidget(says_);
    auto* strip = new QHBoxLayout;
    strip->setSpacing(14);
    for (const auto& [at, word] : {std::pair{kTogether, tr("missing together")},
                                   {kPaths, tr("paths of the sets")},
                                   {kBeside, tr("beside what was seen")},
                                   {kShift, tr("if they differ")}}) {
        auto* button = pageWord(word, this);
        button->setObjectName(QString("missing:picture:%1").arg(at));
        pictures_->addButton(button, at);
        strip->addWidget(button);
    }
    strip->addStretch(1);
    layout->addLayout(strip);
    pictures_->button(kTogether)->setChecked(true);
    picture_->setObjectName("missing:picture");
    layout->addWidget(picture_, 6);
    connect(pictures_, &QButtonGroup::idClicked, this, [this] {
        showPicture();
        emit readingChanged();
    });
    connect(table_, &QTableWidget::cellClicked, this, [this](int row, int column) {
        if (column == kFilled) {
            changeWay(row);
        }
    });
    connect(table_, &QTableWidget::cellActivated, this, [this](int row, int column) {
        if (column == kFilled) {
            changeWay(row);
        }
    });
    connect(table_, &QTableWidget::currentCellChanged, this, [this](int row, int, int before, int) {
        if (row != before && shownFrame_) {
            looking_.ask([frame = shownFrame_, of = chosen()] { return look(*frame, of); },
                         shownFrame_->rows() <= kRowsAtOnce);
        }
    });
    connect(table_, &QTableWidget::cellChanged, this, &MissingPage::cellChanged,
            Qt::QueuedConnection);
    for (QSpinBox* box : {sets_, rounds_, donors_}) {
        connect(box, &QSpinBox::valueChanged, this, &MissingPage::numbersEdited);
    }
    connect(further_, &QLineEdit::editingFinished, this, &MissingPage::furtherEdited);
    connect(propose_, &QPushButton::clicked, this, &MissingPage::propose);
    connect(make_, &QPushButton::clicked, this, [this] {
        held_ = making_.isBusy();
        held_ ? stopMaking() : make();
    });
    connect(ask_, &QPushButton::clicked, this, &MissingPage::ask);
    progress_.setInterval(150);
    connect(&progress_, &QTimer::timeout, this, [this] { say(); });
}

MissingPage::~MissingPage() {
    job_.stop();
    shiftJob_.stop();
}

void MissingPage::hideEvent(QHideEvent* event) {
    stopMaking();
    shiftJob_.stop();
    DataPage::hideEvent(event);
}

std::string MissingPage::chosen() const {
    const auto* item = table_->item(table_->currentRow(), kVariable);
    return item == nullptr ? std::string() : utf8(item->data(Qt::UserRole).toString());
}

void MissingPage::refresh() {
    const auto frame = session_.frame();
    if (!frame) {
        return;
    }
    const ImputationSpec& spec = session_.study().imputation;
    for (const auto& [box, value] :
         {std::pair{sets_, spec.sets}, {rounds_, spec.rounds}, {donors_, spec.donors}}) {
        const QSignalBlocker quiet(box);
        box->setValue(value);
    }
    for (QWidget* of : std::initializer_list<QWidget*>{sets_, rounds_, donors_, further_}) {
        of->setEnabled(spec.isDeclared());
        of->setToolTip(spec.isDeclared() ? QString() : tr("Choose first what is filled in"));
    }
    ask_->setEnabled(spec.isDeclared() && session_.question() != nullptr &&
                     session_.question()->missing != "imputed");
    if (frame == shownFrame_ && spec == shownSpec_) {
        if (made_.sets == nullptr && !made_.refusal && !making_.isBusy() && !held_) {
            make();
        }
        return;
    }
    const bool sameFrame = frame == shownFrame_;
    shownFrame_ = frame;
    shownSpec_ = spec;
    held_ = false;
    QStringList further;
    for (const std::string& text : spec.with) {
        if (!isColumn(*frame, text)) {
            further << rapporto::app::text(text);
        }
    }
    further_->setText(further.join(", "));
    made_ = {};
    if (!sameFrame || looked_.variables.empty()) {
        if (frame->rows() > kRowsAtOnce) {
            says_->setText(tr("Looking at %1 rows…").arg(numbered(countText(frame->rows()))));
        }
        looking_.ask([frame, of = chosen()] { return look(*frame, of); },
                     frame->rows() <= kRowsAtOnce);
    } else {
        fillTable();
    }
    make();
}

MissingPage::Looked MissingPage::look(const Frame& frame, const std::string& of) {
    Looked out;
    out.patterns = missingPatterns(frame);
    for (const Variable& variable : frame.table().variables) {
        if (!variable.expression.empty()) {
            continue;
        }
        const auto& lacking = out.patterns.variables;
        const auto at = std::find_if(lacking.begin(), lacking.end(),
                                     [&](const auto& one) { return one.name == variable.name; });
        out.variables.push_back(variable);
        out.gaps.push_back(at == lacking.end() ? 0 : at->missing);
    }
    std::vector<std::size_t> order(out.variables.size());
    for (std::size_t k = 0; k < order.size(); ++k) {
        order[k] = k;
    }
    std::stable_sort(order.begin(), order.end(),
                     [&](std::size_t a, std::size_t b) { return out.gaps[a] > out.gaps[b]; });
    Looked sorted;
    for (const std::size_t k : order) {
        sorted.variables.push_back(out.variables[k]);
        sorted.gaps.push_back(out.gaps[k]);
    }
    sorted.patterns = std::move(out.patterns);
    sorted.of = of.empty() && !sorted.gaps.empty() && sorted.gaps.front() > 0
                    ? sorted.variables.front().name
                    : of;
    sorted.contrasts = missingContrasts(frame, sorted.of);
    return sorted;
}

void MissingPage::show(const Looked& looked) {
    const bool same = looked_.variables == looked.variables && looked_.gaps == looked.gaps;
    looked_ = looked;
    if (!same || table_->rowCount() == 0) {
        fillTable();
    }
    showPicture();
    say();
    emit readingChanged();
}

void MissingPage::fillTable() {
    const QSignalBlocker quiet(table_);
    const std::string before = looked_.of;
    table_->setRowCount(static_cast<int>(looked_.variables.size()));
    const ImputationSpec& spec = session_.study().imputation;
    const auto cell = [this](int row, int column, const QString& value) {
        auto* item = new QTableWidgetItem(value);
        item->setFlags(Qt::ItemIsEnabled | Qt::ItemIsSelectable);
        if (column == kGaps || column == kShare) {
            item->setTextAlignment(Qt::AlignRight | Qt::AlignVCenter);
        }
        table_->setItem(row, column, item);
        return item;
    };
    const auto rows = static_cast<double>(std::max<std::size_t>(looked_.patterns.rows, 1));
    for (std::size_t k = 0; k < looked_.variables.size(); ++k) {
        const Variable& variable = looked_.variables[k];
        const int row = static_cast<int>(k);
        const std::size_t gaps = looked_.gaps[k];
        cell(row, kVariable, text(variable.name))->setData(Qt::UserRole, text(variable.name));
        table_->item(row, kVariable)->setToolTip(text(variable.shown()));
        cell(row, kGaps, gaps == 0 ? QString("–") : numbered(countText(gaps)));
        cell(row, kShare,
             gaps == 0 ? QString()
                       : numbered(fixedNumber(100.0 * static_cast<double>(gaps) / rows, 1)) + " %");
        const bool filled = std::find(spec.variables.begin(), spec.variables.end(),
                                      variable.name) != spec.variables.end();
        const auto by = spec.by.find(variable.name);
        auto* way =
            cell(row, kFilled,
                 filled     ? text(by == spec.by.end() ? usualWay(variable.measure) : by->second)
                 : gaps > 0 ? tr("left as it is…")
                            : QString());
        if (gaps > 0) {
            way->setForeground(colour::kAccent);
            way->setToolTip(tr("Enter or a click chooses how"));
        }
        const bool foretells =
            std::any_of(spec.with.begin(), spec.with.end(),
                        [&](const std::string& one) { return nameIn(one) == variable.name; });
        auto* tick = cell(row, kForetells, filled ? tr("the others") : QString());
        if (!filled && gaps == 0 && spec.isDeclared()) {
            tick->setFlags(Qt::ItemIsEnabled | Qt::ItemIsSelectable | Qt::ItemIsUserCheckable);
            tick->setCheckState(foretells ? Qt::Checked : Qt::Unchecked);
        }
        if (variable.name == before) {
            table_->setCurrentCell(row, kVariable);
        }
    }
}

void MissingPage::showPicture() {
    if (!shownFrame_) {
        return;
    }
    const int which = pictures_->checkedId();
    if (which == kTogether) {
        looked_.patterns.variables.empty()
            ? picture_->showNothing(tr("No answer is missing in the sample."))
            : picture_->showExhibit(patternsPicture(looked_.patterns));
        return;
    }
    const ImputedVariable* variable =
        made_.sets == nullptr ? nullptr : made_.sets->find(looked_.of);
    if (variable == nullptr) {
        picture_->showNothing(making_.isBusy() ? tr("The sets are being filled in…")
                              : made_.sets == nullptr
                                  ? tr("Nothing is filled in yet.")
                                  : tr("Choose a variable that is filled in, above."));
        return;
    }
    if (which == kShift) {
        showShift();
        return;
    }
    picture_->showExhibit(which == kPaths ? pathsPicture(*variable)
                                          : filledPicture(*variable, *shownFrame_));
}

void MissingPage::showShift() {
    const Question* question = session_.question();
    const auto answer = session_.answer();
    const Coefficient* effect = nullptr;
    for (std::size_t k = 0; answer && answer->fit && k < answer->fit->coefficients.size(); ++k) {
        const Coefficient& c = answer->fit->coefficients[k];
        effect = effect == nullptr && c.designTerm >= 0 ? &c : effect;
    }
    if (question == nullptr || effect == nullptr) {
        picture_->showNothing(tr("Ask a question with a term: its first effect is looked at."));
        return;
    }
    const std::string of =
        questionText(*question) + "|" + looked_.of + "|" + effect->term + "|" + studyText([&] {
            Study part;
            part.imputation = shownSpec_;
            return part;
        }());
    if (shifted_.of == of) {
        if (shifted_.shift) {
            picture_->showExhibit(shiftPicture(*shifted_.shift, session_.study().alpha));
        } else {
            picture_->showNothing(numbered(shifted_.refusal->text()));
        }
        return;
    }
    picture_->showNothing(tr("Asking again with those who did not answer moved…"));
    shiftJob_.stop();
    shiftJob_ = Job();
    shifting_.ask([study = session_.study(), frame = shownFrame_, question = *question,
                   sets = made_.sets, variable = looked_.of, term = effect->term, of,
                   job = shiftJob_] {
        Shifted out;
        out.of = of;
        auto found = missingShift(study, *frame, question, *sets, variable, term, job);
        if (found) {
            out.shift = *std::move(found);
        } else {
            out.refusal = found.error();
            out.of = found.error().code == ErrorCode::Stopped ? std::string() : of;
        }
        return out;
    });
}

void MissingPage::say() {
    const bool busy = making_.isBusy();
    make_->setText(busy ? tr("stop") : tr("fill in now"));
    make_->setVisible(shownSpec_.isDeclared() && made_.sets == nullptr);
    const auto& patterns = looked_.patterns;
    if (busy) {
        says_->setText(tr("Filling in: %1 %").arg(static_cast<int>(100.0 * job_.done())));
        return;
    }
    progress_.stop();
    if (made_.refusal) {
        says_->setText(themed("<span style=\"color:{caution}\">" +
                              numbered(made_.refusal->text()).toHtmlEscaped() + "</span>"));
        return;
    }
    if (made_.sets) {
        const auto paragraphs = setsReading(*made_.sets, *shownFrame_);
        says_->setText(richText(paragraphs.front()) +
                       (paragraphs.size() > 1 ? " " + richText(paragraphs[1]) : QString()));
        return;
    }
    if (patterns.variables.empty()) {
        says_->setText(tr("No answer is missing in the sample."));
        return;
    }
    says_->setText(tr("<b>%1</b> of %2 lack nothing; %3 lack an answer somewhere.")
                       .arg(numbered(countText(patterns.complete)),
                            numbered(plural(patterns.rows, "row", "rows")),
                            numbered(countText(patterns.rows - patterns.complete))));
}

void MissingPage::make() {
    job_.stop();
    if (!shownSpec_.isDeclared() || !session_.bench().frameIsFresh()) {
        made_ = {};
        say();
        showPicture();
        return;
    }
    job_ = Job();
    making_.ask([bench = &session_.bench(), job = job_] {
        Made out;
        auto sets = bench->sets(job);
        if (sets) {
            out.sets = *std::move(sets);
        } else {
            out.refusal = sets.error();
        }
        return out;
    });
    progress_.start();
    say();
}

void MissingPage::stopMaking() {
    if (making_.isBusy()) {
        job_.stop();
    }
}

void MissingPage::showMade(const Made& made) {
    made_ = made;
    if (made_.refusal && made_.refusal->code == ErrorCode::Stopped) {
        made_.refusal.reset();
    }
    say();
    showPicture();
    emit readingChanged();
}

/// Where nothing is filled in nothing is declared: what is seen is what is saved.
void MissingPage::put(const ImputationSpec& spec, const QString& did) {
    session_.edit(SetImputation{spec.isDeclared() ? spec : ImputationSpec{}}, did);
}

void MissingPage::changeWay(int row) {
    const auto k = static_cast<std::size_t>(row);
    if (row < 0 || k >= looked_.variables.size() || looked_.gaps[k] == 0) {
        return;
    }
    const Variable variable = looked_.variables[k];
    QMenu menu(this);
    menu.setObjectName("missing:ways");
    const auto without = [this, name = variable.name] {
        ImputationSpec spec = session_.study().imputation;
        std::erase(spec.variables, name);
        spec.by.erase(name);
        return spec;
    };
    menu.addAction(tr("left as it is"), this, [this, without, name = variable.name] {
        put(without(), tr("%1 is not filled in").arg(text(name)));
    });
    for (const std::string& way : imputationWays()) {
        const bool ofText = shownFrame_->column(variable.name)->isText();
        if (ofText && (way == "matching" || way == "normal")) {
            continue;
        }
        const bool usual = way == usualWay(variable.measure);
        menu.addAction(text(wayText(way)) + (usual ? tr(" · the usual") : QString()), this,
                       [this, variable, way, usual] {
                           ImputationSpec spec = session_.study().imputation;
                           if (std::find(spec.variables.begin(), spec.variables.end(),
                                         variable.name) == spec.variables.end()) {
                               spec.variables.push_back(variable.name);
                           }
                           spec.by.erase(variable.name);
                           if (!usual) {
                               spec.by[variable.name] = way;
                           }
                           std::erase_if(spec.with, [&](const std::string& one) {
                               return nameIn(one) == variable.name;
                           });
                           put(spec, tr("fill %1 in by %2").arg(text(variable.name), text(way)));
                       });
    }
    menu.exec(table_->viewport()->mapToGlobal(
        table_->visualItemRect(table_->item(row, kFilled)).bottomLeft()));
}

void MissingPage::cellChanged(int row, int column) {
    if (column != kForetells || row >= table_->rowCount()) {
        return;
    }
    const std::string name = looked_.variables[static_cast<std::size_t>(row)].name;
    const bool wanted = table_->item(row, kForetells)->checkState() == Qt::Checked;
    ImputationSpec spec = session_.study().imputation;
    const auto size = spec.with.size();
    std::erase_if(spec.with, [&](const std::string& one) { return nameIn(one) == name; });
    if (wanted == (spec.with.size() < size)) {
        return;
    }
    if (wanted) {
        spec.with.push_back(quotedName(name));
    }
    put(spec, wanted ? tr("%1 foretells what is filled in").arg(text(name))
                     : tr("%1 does not foretell what is filled in").arg(text(name)));
}

void MissingPage::numbersEdited() {
    ImputationSpec spec = session_.study().imputation;
    spec.sets = sets_->value();
    spec.rounds = rounds_->value();
    spec.donors = donors_->value();
    if (!(spec == session_.study().imputation)) {
        put(spec, tr("fill in %1 times").arg(spec.sets));
    }
}

void MissingPage::furtherEdited() {
    if (!shownFrame_) {
        return;
    }
    ImputationSpec spec = session_.study().imputation;
    std::vector<std::string> with;
    for (const std::string& one : spec.with) {
        if (isColumn(*shownFrame_, one)) {
            with.push_back(one);
        }
    }
    for (const std::string& typed : partsOf(further_->text())) {
        if (std::find(with.begin(), with.end(), typed) == with.end()) {
            with.push_back(typed);
        }
    }
    if (with != spec.with) {
        spec.with = std::move(with);
        put(spec, tr("foretold also by %1").arg(further_->text().trimmed()));
    }
}

void MissingPage::propose() {
    const ImputationSpec spec = proposedImputation(session_.study(), *shownFrame_);
    if (!spec.isDeclared()) {
        says_->setText(tr("Nothing that the questions use lacks an answer."));
        return;
    }
    put(spec, tr("fill in %1").arg(text(joinedNames(spec.variables))));
}

void MissingPage::ask() {
    const Question* present = session_.question();
    if (present == nullptr) {
        return;
    }
    Question variant = *present;
    variant.variantOf = present->variantOf.empty() ? present->id : present->variantOf;
    variant.id.clear();
    variant.missing = "imputed";
    variant.completeBy.clear();
    variant.title = present->title + utf8(tr(", filled in"));
    session_.putQuestion(variant, tr("ask %1 with what is filled in").arg(text(present->title)));
}

ReadingContent MissingPage::reading() const {
    ReadingContent content;
    content.title = tr("what is missing");
    for (const Question& q : session_.study().questions) {
        const auto answer = session_.answer(q.id);
        if (!answer || answer->rows.missing == 0) {
            continue;
        }
        QStringList by;
        for (const auto& lack : answer->rows.missingBy) {
            if (by.size() < 3) {
                by << tr("%1 %2").arg(termText(lack.name), numbered(countText(lack.rows)));
            }
        }
        content.paragraphs << tr("“%1” loses <b>%2</b> of %3: %4.")
                                  .arg(text(q.title.empty() ? q.id : q.title).toHtmlEscaped(),
                                       numbered(countText(answer->rows.missing)),
                                       numbered(plural(answer->rows.inSample, "row", "rows")),
                                       by.join(", ").toHtmlEscaped());
    }
    QStringList apart;
    for (const MissingContrast& one : looked_.contrasts) {
        if (apart.size() == 3 || std::abs(one.apart) < 0.1) {
            break;
        }
        apart << tr("%1 %2 against %3 (%4 standard deviations; p %5 for all looks)")
                     .arg(text(one.label + (one.level.empty() ? "" : ": " + one.level)),
                          numbered(shortNumber(one.lacking, 3)), numbered(shortNumber(one.seen, 3)),
                          numbered(fixedNumber(one.apart, 2)), numbered(pText(one.adjusted)));
    }
    if (!looked_.of.empty() && !apart.isEmpty()) {
        content.paragraphs << tr("Rows that lack <b>%1</b> differ most in: %2.")
                                  .arg(text(looked_.of).toHtmlEscaped(),
                                       apart.join("; ").toHtmlEscaped());
    } else if (!looked_.of.empty()) {
        content.paragraphs << tr("Rows that lack <b>%1</b> differ in nothing by much.")
                                  .arg(text(looked_.of).toHtmlEscaped());
    }
    if (pictures_->checkedId() == kShift && shifted_.shift) {
        content.paragraphs << richText(shiftReading(*shifted_.shift));
    }
    if (made_.sets) {
        for (const ImputedVariable& one : made_.sets->variables) {
            if (const std::string parts = partingReading(one, *shownFrame_); !parts.empty()) {
                content.paragraphs << text(parts).toHtmlEscaped();
            }
        }
    }
    content.paragraphs << tr(
        "Where answers are missing by chance given what is seen, filling them in several times and "
        "pooling gives the right answer with the right error. <b>Whether they are cannot be "
        "tested</b>: the answers that would tell are not there. What foretells should hold all "
        "that "
        "a question uses, its outcome too.");
    return content;
}

}  // namespace rapporto::app
