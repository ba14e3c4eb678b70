#include "core/left/left_question.h"

#include "core/base/format.h"
#include "core/data/text_index.h"

#include <fmt/format.h>

#include <cmath>

namespace rapporto {
namespace {

/// Real rows that tell what terms become.
constexpr int kSeen = 200;
constexpr std::size_t kMostLevels = 2000;
constexpr std::size_t kMostColumns = 250;  ///< Some thirty thousand sums of products.

class LeftQuestion {
  public:
    LeftQuestion(LeftRows& rows, const Study& study, const Frame& frame, const Question& question,
                 RowCounts& counts)
        : rows_(rows), study_(study), frame_(frame), question_(question), counts_(counts) {}

    Result<LeftSpelled> run() {
        for (const auto& step : {&LeftQuestion::read, &LeftQuestion::count, &LeftQuestion::see,
                                 &LeftQuestion::nameColumns}) {
            if (auto done = (this->*step)(); !done) {
                return tl::make_unexpected(done.error());
            }
        }
        return std::move(spelled_);
    }

  private:
    /// Every expression that the question reads.
    Result<void> read() {
        if (question_.outcome.empty()) {
            return refuse(ErrorCode::NoTerms, "the question has no outcome", question_.title,
                          "Put a variable after “Explain”.");
        }
        if (auto begun = rows_.begin(question_.where); !begun) {
            return begun;
        }
        std::vector<std::string> texts = {question_.outcome};
        for (const auto* terms :
             {&question_.endogenous, &question_.terms, &question_.instruments}) {
            for (const Term& term : *terms) {
                const auto own = textsOf(term);
                if (!own) {
                    return tl::make_unexpected(own.error());
                }
                texts.insert(texts.end(), own->begin(), own->end());
            }
        }
        for (const std::string& text : texts) {
            if (auto added = rows_.add(text); !added) {
                return tl::make_unexpected(added.error());
            }
        }
        return readFurther();
    }

    /// The expressions of a term; none of a muted one.
    [[nodiscard]] Result<std::vector<std::string>> textsOf(const Term& term) const {
        if (term.muted) {
            return std::vector<std::string>();
        }
        if (term.kind != Term::Kind::Set) {
            return term.parts;
        }
        for (const TermSet& set : study_.sets) {
            if (set.name == term.parts.front()) {
                return set.members;
            }
        }
        return refuse(ErrorCode::UnknownName, "there is no set ‘" + term.parts.front() + "’");
    }

    Result<void> readFurther() {
        if (question_.weightKind != WeightKind::None) {
            auto weight = rows_.add(question_.weight);
            if (!weight) {
                return tl::make_unexpected(weight.error());
            }
            spelled_.columns.weight = rows_.part(*weight).alias;
            if (rows_.part(*weight).value.type == SqlValue::Type::Text) {
                return refuse(ErrorCode::WrongType,
                              "the weight ‘" + question_.weight + "’ holds text");
            }
        }
        if (question_.errors.kind == "clustered") {
            for (const std::string& by : question_.errors.by) {
                auto cluster = rows_.add(by);
                if (!cluster) {
                    return tl::make_unexpected(cluster.error());
                }
                spelled_.columns.clusters.push_back(rows_.part(*cluster).alias);
            }
        }
        if (!question_.fixedEffects.empty()) {
            auto held = rows_.add(question_.fixedEffects.front());
            if (!held) {
                return tl::make_unexpected(held.error());
            }
            spelled_.columns.held = rows_.part(*held).alias;
        }
        readBeside();
        spelled_.columns.outcome = rows_.partOf(question_.outcome).alias;
        if (rows_.partOf(question_.outcome).value.type == SqlValue::Type::Text) {
            return refuse(
                ErrorCode::WrongType, "the outcome ‘" + question_.outcome + "’ holds text",
                "outcome",
                "Compare it with a level, as in " + quotedName(question_.outcome) + " = 'yes'.");
        }
        return {};
    }

    /// What checks cut the rows by: named for a check, clusters and units, groupings of the terms.
    void readBeside() {
        std::vector<std::string> names;
        for (const CheckRequest& check : question_.checks) {
            names.push_back(check.by.empty() ? "" : quotedName(check.by));
        }
        for (const std::string& by : question_.errors.by) {
            names.push_back(by);
        }
        if (frame_.layout().kind == Layout::Kind::Panel) {
            names.push_back(quotedName(frame_.layout().unit));
        }
        for (const Term& term : question_.terms) {
            for (const std::string& text : textsOf(term).value_or(std::vector<std::string>())) {
                const LeftPart& part = rows_.partOf(text);
                if (part.groups || part.variable.measure == Measure::YesNo) {
                    names.push_back(text);
                }
            }
        }
        for (const std::string& name : names) {
            // What cannot be read is said by the check that wants it.
            const auto place = name.empty() ? Result<std::size_t>(tl::make_unexpected(Refusal{}))
                                            : rows_.add(name, false);
            auto& beside = spelled_.columns.beside;
            if (place && std::none_of(beside.begin(), beside.end(), [&](const LeftPart& one) {
                    return one.alias == rows_.part(*place).alias;
                })) {
                beside.push_back(rows_.part(*place));
            }
        }
    }

    /// Where the rows go.
    Result<void> count() {
        const auto one = [](const std::string& condition) {
            return "case when " + condition + " then 1 else 0 end";
        };
        const std::string& y = spelled_.columns.outcome;
        const std::string& w = spelled_.columns.weight;
        std::vector<std::string> also;
        if (question_.weightKind != WeightKind::None) {
            also = {one(w + " < 0"), one(w + " > 0"), one(w + " <> floor(" + w + ")")};
        }
        if (isByLikelihood(question_)) {
            also.push_back(one(familyOf(question_.method)->isPoisson()
                                   ? y + " < 0"
                                   : y + " <> 0 and " + y + " <> 1"));
        }
        const auto counts = rows_.count(also);
        if (!counts) {
            return tl::make_unexpected(counts.error());
        }
        counts_ = countsOf(*counts);
        if (counts_.used == 0) {
            return refuse(
                ErrorCode::TooFewRows, "no row has an answer to everything asked", "sample",
                counts_.missingBy.empty()
                    ? "Widen the sample."
                    : "‘" + counts_.missingBy.front().name + "’ lacks most: leave it out.");
        }
        spelled_.source = rows_.used();
        const double odd = isByLikelihood(question_) ? counts->also.back() : 0.0;
        if (odd > 0.0) {
            const bool poisson = familyOf(question_.method)->isPoisson();
            return refuse(ErrorCode::BadSetting,
                          "the outcome ‘" + question_.outcome + "’ is " +
                              (poisson ? "below zero in " : "neither 0 nor 1 in ") +
                              plural(wholeOf(odd), "row", "rows"),
                          "outcome",
                          poisson ? std::string("A count is zero or more: choose another "
                                                "estimator, or a rule.")
                                  : "A yes–no outcome is 0 or 1: state a condition, as in " +
                                        question_.outcome + " > 0.",
                          {question_.outcome});
        }
        return question_.weightKind == WeightKind::None
                   ? Result<void>()
                   : mayWeigh(counts->also[0], counts->also[1], counts->also[2]);
    }

    /// Rows of weight zero leave.
    ///
    /// @param negative  rows with such a weight, and so on.
    Result<void> mayWeigh(double negative, double positive, double broken) {
        if (negative > 0.0) {
            return refuse(ErrorCode::BadSetting,
                          "the weight ‘" + question_.weight + "’ is negative in some rows",
                          "weights", "A weight is zero or more.", {question_.weight});
        }
        if (question_.weightKind == WeightKind::Frequency && broken > 0.0) {
            return refuse(
                ErrorCode::BadSetting,
                "frequency weights count rows, and ‘" + question_.weight + "’ is not whole",
                "weights", "Choose sampling or precision weights.", {question_.weight});
        }
        if (positive == 0.0) {
            return refuse(ErrorCode::TooFewRows, "every weight is zero", "weights");
        }
        counts_.dropped += counts_.used - wholeOf(positive);
        counts_.used = wholeOf(positive);
        spelled_.source = rows_.usedWhere(spelled_.columns.weight + " > 0");
        return {};
    }

    /// Cells of one column among rows that were fetched, as the study reads them.
    [[nodiscard]] Column columnOf(const std::string& name,
                                  const std::vector<std::optional<std::string>>& cells) const {
        return columnOfCells(name, cells, frame_.left()->variable(name)->kind == ServerKind::Text);
    }

    /// Some rows as they are, with every level of every grouping among them: they tell which
    /// columns the terms become, and no more.
    Result<void> see() {
        std::string list;
        std::vector<std::string> names;
        for (const auto& [name, alias] : rows_.cells()) {
            list += (list.empty() ? "" : ", ") + alias;
            names.push_back(name);
        }
        const auto first = rows_.ask("select " + list + " from " + spelled_.source +
                                     fmt::format(" limit {}", kSeen));
        if (!first) {
            return tl::make_unexpected(first.error());
        }
        auto seen = first->rows;
        for (const LeftPart* part : groupings()) {
            const auto one = oneOfEach(*part, list, first->rows.front());
            if (!one) {
                return tl::make_unexpected(one.error());
            }
            seen.insert(seen.end(), one->begin(), one->end());
        }
        Table table;
        for (std::size_t c = 0; c < names.size(); ++c) {
            std::vector<std::optional<std::string>> cells;
            for (const auto& row : seen) {
                cells.push_back(row[c]);
            }
            table.columns.push_back(columnOf(names[c], cells));
            table.variables.push_back(*frame_.variable(names[c]));
        }
        spelled_.seen = madeFrame(table);
        return {};
    }

    /// The terms that are groupings.
    [[nodiscard]] std::vector<const LeftPart*> groupings() const {
        std::vector<const LeftPart*> out;
        for (const auto* terms :
             {&question_.endogenous, &question_.terms, &question_.instruments}) {
            for (const Term& term : *terms) {
                for (const std::string& text : textsOf(term).value_or(std::vector<std::string>())) {
                    if (rows_.partOf(text).groups) {
                        out.push_back(&rows_.partOf(text));
                    }
                }
            }
        }
        return out;
    }

    /// The cells of a row that was fetched.
    using Seen = std::vector<std::optional<std::string>>;

    /// One row for each level.
    ///
    /// @param like  a row that was seen.
    Result<std::vector<Seen>> oneOfEach(const LeftPart& part, const std::string& list,
                                        const Seen& like) {
        // A grouping that is one column of the table needs no more than its levels: the other cells
        // are those of a row that was seen.
        const auto cell = rows_.cells().find(part.name);
        const bool bare = cell != rows_.cells().end() && part.value.sql == cell->second;
        if (bare) {
            const auto levels = rows_.distinct(part.alias, spelled_.source, kMostLevels + 1);
            if (!levels) {
                return tl::make_unexpected(levels.error());
            }
            const auto place = static_cast<std::size_t>(std::distance(rows_.cells().begin(), cell));
            auto out = std::vector(levels->size(), like);
            for (std::size_t l = 0; l < out.size(); ++l) {
                out[l][place] = (*levels)[l];
            }
            return notTooMany(part, std::move(out));
        }
        auto found =
            rows_.ask("select " + list + " from (select used.*, row_number() over (partition by " +
                      part.alias + ") as nth from " + spelled_.source + ") numbered where nth = 1" +
                      fmt::format(" limit {}", kMostLevels + 1));
        return found ? notTooMany(part, std::move(found->rows))
                     : tl::make_unexpected(found.error());
    }

    [[nodiscard]] Result<std::vector<Seen>> notTooMany(const LeftPart& part,
                                                       std::vector<Seen> levels) const {
        if (levels.size() > kMostLevels) {
            return refuse(ErrorCode::BadSetting,
                          "‘" + part.name + "’ has over " + countText(kMostLevels) + " levels",
                          question_.title, "Declare it a quantity, hold it fixed, or merge levels.",
                          {part.name});
        }
        return levels;
    }

    /// The cells of such a table are as they were told to be read: codes are gone already.
    [[nodiscard]] Frame madeFrame(const Table& table) const {
        Table plain = table;
        for (Variable& variable : plain.variables) {
            variable.missing.clear();
            variable.missingRanges.clear();
        }
        return Frame::make(plain, entriesAsRead(study_.variables), study_.derived, {}, {});
    }

    /// The columns of the design, each as an expression of a row.
    Result<void> nameColumns() {
        Question plain = question_;
        plain.where.clear();
        plain.weightKind = WeightKind::None;
        plain.errors = ErrorSpec{};
        plain.fixedEffects.clear();
        auto design = makeDesign(*spelled_.seen, plain, study_.sets, rows_.job());
        if (!design) {
            return tl::make_unexpected(design.error());
        }
        spelled_.design = *std::move(design);
        spelled_.columns.terms = columnsOf(spelled_.design.terms);
        spelled_.columns.instruments = columnsOf(spelled_.design.instrumentTerms);
        const std::size_t all = spelled_.columns.terms.size() + spelled_.columns.instruments.size();
        if (all > kMostColumns) {
            return refuse(ErrorCode::TooLarge,
                          "the terms become " + countText(all) + " columns, and " +
                              rows_.words().engine + " is asked for the sums of products of " +
                              countText(kMostColumns) + " at most",
                          question_.title,
                          "Hold a grouping fixed instead of putting it among the terms, or " +
                              rows_.words().fetch + ".");
        }
        return {};
    }

    [[nodiscard]] std::vector<std::string> columnsOf(const std::vector<DesignTerm>& terms) const {
        std::vector<std::string> out;
        for (const DesignTerm& term : terms) {
            std::vector<std::string> all = {""};
            for (const DesignFactor& factor : term.factors) {
                std::vector<std::string> next;
                for (const std::string& before : all) {
                    for (const std::string& one : factorColumns(factor)) {
                        next.push_back(before.empty() ? one : "(" + before + " * " + one + ")");
                    }
                }
                all = std::move(next);
            }
            out.insert(out.end(), all.begin(), all.end());
        }
        return out;
    }

    [[nodiscard]] std::vector<std::string> factorColumns(const DesignFactor& factor) const {
        const LeftPart& part = rows_.partOf(factor.text);
        if (!factor.groups) {
            return {part.alias};
        }
        std::vector<std::string> out;
        for (std::size_t l = 0; l < factor.levels.size(); ++l) {
            if (l == factor.base) {
                continue;
            }
            const FoundLevel& level = factor.levels[l];
            const std::string value = part.value.type == SqlValue::Type::Text
                                          ? ServerConnection::literal(level.value)
                                          : sqlNumber(level.code);
            out.push_back("(case when " + part.alias + " = " + value +
                          " then cast(1 as double precision) else 0 end)");
        }
        return out;
    }

    LeftRows& rows_;
    const Study& study_;
    const Frame& frame_;
    const Question& question_;
    RowCounts& counts_;
    LeftSpelled spelled_;
};

}  // namespace

bool isByLikelihood(const Question& question) {
    const Family* family = familyOf(question.method);
    return family != nullptr &&
           (family->isPoisson() || family == &families::kLogit || family == &families::kProbit);
}

std::vector<VariableEntry> entriesAsRead(std::vector<VariableEntry> entries) {
    for (VariableEntry& entry : entries) {
        entry.missing.reset();
        entry.missingRanges.reset();
        entry.readAs.reset();
    }
    return entries;
}

Result<LeftSpelled> spellOut(LeftRows& rows, const Study& study, const Frame& frame,
                             const Question& question, RowCounts& counts) {
    return LeftQuestion(rows, study, frame, question, counts).run();
}

}  // namespace rapporto
