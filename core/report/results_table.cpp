#include "core/report/results_table.h"

#include "core/base/format.h"
#include "core/base/shown_names.h"
#include "core/impute/pooling.h"
#include "core/model/feasible_ar.h"
#include "core/model/likelihood.h"
#include "core/model/multilevel.h"
#include "core/report/fixed_words.h"
#include "core/report/missing_wording.h"
#include "core/report/report.h"
#include "core/report/request_wording.h"
#include "core/report/wording.h"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <set>

namespace rapporto {
namespace {

std::string starsFor(const Coefficient& c, const std::vector<double>& levels) {
    std::string out;
    for (const double level : levels) {
        out += c.p && *c.p < level ? "*" : "";
    }
    return out;
}

Cell estimateCell(const Answer& answer, const Coefficient& c, const TableLook& look) {
    const int decimals = look.digits.value_or(decimalsFor(c.se));
    std::string text = fixedNumber(c.estimate, decimals, true) + starsFor(c, look.stars);
    if (!look.beside.empty() && isOfLogs(answer) && c.designTerm >= 0) {
        text += look.beside == "ratio"
                    ? " (×" + shortNumber(std::exp(c.estimate), 3) + ")"
                    : " (" + shortNumber(100.0 * std::expm1(c.estimate), 3) + " %)";
    }
    return {text, c.estimate};
}

Cell belowCell(const Coefficient& c, const TableLook& look) {
    const int decimals = look.digits.value_or(decimalsFor(c.se));
    const auto number = [&](double value) { return fixedNumber(value, decimals, true); };
    if (look.below == "interval") {
        return std::string("[") + number(c.low) + ", " + number(c.high) + "]";
    }
    if (look.below == "t") {
        return c.statistic ? Cell("(" + fixedNumber(*c.statistic, 2) + ")", *c.statistic) : Cell();
    }
    if (look.below == "p") {
        return c.p ? Cell("(" + pText(*c.p) + ")", *c.p) : Cell();
    }
    return {"(" + number(c.se) + ")", c.se};
}

/// A row to be: its words, and where its numbers are.
struct TermRow {
    std::string words;
    std::string term;  ///< As the fit names it.
    std::vector<const Coefficient*> of;
    bool heading = false;
};

/// Folds name a set as the sentence does: {controls} stands for its members, whatever they are.
TableLook withSets(TableLook look, const std::vector<TermSet>& sets) {
    for (TableLook::Fold& fold : look.folds) {
        std::vector<std::string> terms;
        for (const std::string& name : fold.terms) {
            const auto set = std::find_if(sets.begin(), sets.end(), [&](const TermSet& one) {
                return name == "{" + one.name + "}";
            });
            if (set == sets.end()) {
                terms.push_back(name);
                continue;
            }
            for (const std::string& member : set->members) {
                terms.push_back(canonicalText(member));
            }
        }
        fold.terms = std::move(terms);
    }
    return look;
}

class TableMaker {
  public:
    TableMaker(const Study& study, const std::vector<ResultsPanel>& panels, const TableLook& look,
               const std::string& language)
        : panels_(panels),
          look_(withSets(look, study.sets)),
          language_(language),
          labels_(labelsOf(study)) {
        for (const ResultsPanel& panel : panels) {
            columns_ = std::max(columns_, panel.columns.size());
        }
    }

    ReportBlock make() {
        block_.kind = ReportBlock::Kind::Table;
        head();
        for (const ResultsPanel& panel : panels_) {
            if (!panel.title.empty()) {
                if (block_.cells.size() > block_.heads) {
                    block_.rules.push_back(block_.cells.size() - 1);
                }
                block_.cells.push_back({Cell::over(static_cast<int>(columns_ + 1), panel.title)});
            }
            body(panel);
        }
        block_.rules.push_back(block_.cells.size() - 1);
        return std::move(block_);
    }

  private:
    [[nodiscard]] std::string shown(const std::string& expression) const {
        return look_.names ? expression : shownExpression(expression, labels_);
    }

    [[nodiscard]] std::string word(const std::string& english) const {
        return fixedWord(english, language_);
    }

    /// Common heads by outcome where there are several, and the heads of the columns.
    void head() {
        const auto& first = panels_.front().columns;
        std::set<std::string> outcomes;
        for (const ResultsColumn& column : first) {
            if (column.answer != nullptr && column.answer->design) {
                outcomes.insert(column.answer->design->outcome);
            }
        }
        if (outcomes.size() > 1) {
            CellRow over = {""};
            for (std::size_t c = 0; c < first.size();) {
                std::size_t end = c + 1;
                while (end < first.size() && outcomeOf(first[end]) == outcomeOf(first[c])) {
                    ++end;
                }
                over.push_back(Cell::over(static_cast<int>(end - c), shown(outcomeOf(first[c]))));
                c = end;
            }
            block_.cells.push_back(std::move(over));
        }
        CellRow heads = {""};
        for (std::size_t c = 0; c < first.size(); ++c) {
            const std::string number = "(" + std::to_string(c + 1) + ")";
            const std::string& title = first[c].head;
            heads.emplace_back(look_.columns == "numbers" || title.empty() ? number
                               : first.size() > 1                          ? number + " " + title
                                                                           : title);
            heads.back().part = "head:" + std::to_string(first[c].place);
        }
        block_.cells.push_back(std::move(heads));
        block_.heads = block_.cells.size();
        block_.rules.push_back(block_.heads - 1);
    }

    static std::string outcomeOf(const ResultsColumn& column) {
        return column.answer != nullptr && column.answer->design ? column.answer->design->outcome
                                                                 : std::string();
    }

    void body(const ResultsPanel& panel) {
        told_.clear();
        std::vector<TermRow> rows = termRows(panel);
        for (const TermRow& row : rows) {
            put(panel, row);
        }
        if (block_.rules.back() != block_.cells.size() - 1) {
            block_.rules.push_back(block_.cells.size() - 1);
        }
        folds(panel);
        heldFixed(panel);
        foot(panel);
    }

    std::vector<TermRow> termRows(const ResultsPanel& panel) {
        std::vector<std::vector<ComparedEffect>> fits;
        for (const ResultsColumn& column : panel.columns) {
            fits.push_back(column.answer != nullptr ? comparedEffects(*column.answer)
                                                    : std::vector<ComparedEffect>());
        }
        std::vector<ComparedRow> order = comparedRows(fits);
        std::stable_sort(order.begin(), order.end(),
                         [&](const ComparedRow& a, const ComparedRow& b) {
                             return placeOf(a.term) < placeOf(b.term);
                         });
        std::vector<TermRow> rows;
        std::string group;
        for (const ComparedRow& compared : order) {
            const DesignTerm* term = termOf(panel, compared.term);
            if (isFolded(compared.term, term)) {
                continue;
            }
            headings(rows, compared.term, term);
            const bool grouped = term != nullptr && term->groups && !term->isProduct;
            if (grouped && group != term->name) {
                groupHeading(rows, *term);
            }
            group = grouped ? term->name : std::string();
            TermRow row;
            row.term = compared.term;
            row.words = wordsOf(panel, compared, term, grouped);
            for (const auto& fit : fits) {
                row.of.push_back(effectIn(fit, compared));
            }
            rows.push_back(std::move(row));
        }
        constants(panel, rows);
        return rows;
    }

    /// Terms named in the look's order first, all others as they come.
    [[nodiscard]] std::size_t placeOf(const std::string& term) const {
        std::size_t at = 0;
        for (; at < look_.order.size(); ++at) {
            const std::string& wanted = look_.order[at];
            if (term == wanted || term.starts_with(wanted + "=")) {
                break;
            }
        }
        return at;
    }

    static const DesignTerm* termOf(const ResultsPanel& panel, const std::string& column) {
        for (const ResultsColumn& one : panel.columns) {
            if (one.answer == nullptr || !one.answer->fit) {
                continue;
            }
            for (const Coefficient& c : one.answer->fit->coefficients) {
                const auto at = static_cast<std::size_t>(c.designTerm);
                if (c.term == column && c.designTerm >= 0 &&
                    at < one.answer->design->terms.size()) {
                    return &one.answer->design->terms[at];
                }
            }
        }
        return nullptr;
    }

    [[nodiscard]] bool isFolded(const std::string& column, const DesignTerm* term) const {
        return std::any_of(look_.folds.begin(), look_.folds.end(), [&](const auto& fold) {
            return std::any_of(fold.terms.begin(), fold.terms.end(), [&](const auto& name) {
                return name == column || (term != nullptr && name == term->name);
            });
        });
    }

    void headings(std::vector<TermRow>& rows, const std::string& column, const DesignTerm* term) {
        for (const TableLook::Heading& heading : look_.headings) {
            const bool here =
                heading.before == column || (term != nullptr && heading.before == term->name);
            if (here && told_.insert(heading.text).second) {
                rows.push_back({heading.text, "", {}, true});
            }
        }
    }

    void groupHeading(std::vector<TermRow>& rows, const DesignTerm& term) {
        const std::string name = look_.names ? term.name : term.label;
        rows.push_back({name + (look_.base == "label" ? ", " + word("against") + " " + term.base
                                                      : std::string()),
                        "",
                        {},
                        true});
        if (look_.base == "row") {
            rows.push_back({"\u2003" + term.base + " (" + word("base") + ")", "", {}, true});
        }
    }

    std::string wordsOf(const ResultsPanel& panel, const ComparedRow& row, const DesignTerm* term,
                        bool grouped) const {
        const std::string further = row.equation.empty() ? "" : " · " + row.equation;
        if (grouped && row.term.starts_with(term->name + "=")) {
            return "\u2003" + row.term.substr(term->name.size() + 1) + further;
        }
        if (look_.names || term == nullptr) {
            return (look_.names ? row.term : shown(row.term)) + further;
        }
        const std::string unit = term->unit.empty() || term->isProduct ? "" : ", " + term->unit;
        for (const ResultsColumn& one : panel.columns) {
            if (one.answer == nullptr || !one.answer->fit) {
                continue;
            }
            for (const Coefficient& c : one.answer->fit->coefficients) {
                // A label that is only the expression again is shown for readers.
                if (c.term == row.term) {
                    return (c.label == shownNames(c.term) ? shown(c.term) : c.label + unit) +
                           further;
                }
            }
        }
        return shown(row.term) + further;
    }

    void constants(const ResultsPanel& panel, std::vector<TermRow>& rows) const {
        TermRow row;
        row.words = word("Constant");
        row.term = "(constant)";
        bool any = false;
        for (const ResultsColumn& column : panel.columns) {
            const Coefficient* found = nullptr;
            if (column.answer != nullptr && column.answer->fit) {
                const auto& list = column.answer->fit->coefficients;
                const bool alone = std::all_of(list.begin(), list.end(), [&](const Coefficient& c) {
                    return c.equation == list.front().equation;
                });
                const auto c = std::find_if(list.begin(), list.end(), [&](const Coefficient& x) {
                    return x.term == "(constant)" && (alone || x.equation == "main");
                });
                found = c == list.end() ? nullptr : &*c;
            }
            any = any || found != nullptr;
            row.of.push_back(found);
        }
        if (any) {
            rows.push_back(std::move(row));
        }
    }

    void put(const ResultsPanel& panel, const TermRow& row) {
        if (row.heading) {
            block_.cells.push_back({Cell::over(static_cast<int>(columns_ + 1), row.words)});
            return;
        }
        CellRow estimates = {row.words};
        CellRow below = {""};
        for (std::size_t c = 0; c < row.of.size(); ++c) {
            const Coefficient* one = row.of[c];
            estimates.push_back(one != nullptr ? estimateCell(*panel.columns[c].answer, *one, look_)
                                               : Cell());
            below.push_back(one != nullptr ? belowCell(*one, look_) : Cell());
        }
        addRow(std::move(estimates));
        if (look_.below != "nothing") {
            addRow(std::move(below));
        }
    }

    void addRow(CellRow row) {
        row.resize(columns_ + 1);
        block_.cells.push_back(std::move(row));
    }

    /// “Controls: yes” where a column has one of the terms at least.
    void folds(const ResultsPanel& panel) {
        for (const TableLook::Fold& fold : look_.folds) {
            CellRow row = {fold.label};
            for (const ResultsColumn& column : panel.columns) {
                const bool has =
                    column.answer != nullptr && column.answer->design &&
                    std::any_of(column.answer->design->terms.begin(),
                                column.answer->design->terms.end(), [&](const DesignTerm& term) {
                                    return std::find(fold.terms.begin(), fold.terms.end(),
                                                     term.name) != fold.terms.end();
                                });
                row.emplace_back(column.answer == nullptr ? std::string()
                                 : has                    ? word("yes")
                                                          : word("no"));
            }
            addRow(std::move(row));
        }
    }

    void heldFixed(const ResultsPanel& panel) {
        std::vector<std::string> names;
        for (const ResultsColumn& column : panel.columns) {
            if (column.answer != nullptr && column.answer->design) {
                for (const SweptGrouping& held : column.answer->design->effects) {
                    if (std::find(names.begin(), names.end(), held.name) == names.end()) {
                        names.push_back(held.name);
                    }
                }
            }
        }
        for (const std::string& name : names) {
            CellRow row = {shown(name) + " " + word("held fixed")};
            for (const ResultsColumn& column : panel.columns) {
                const bool has =
                    column.answer != nullptr && column.answer->design &&
                    std::any_of(column.answer->design->effects.begin(),
                                column.answer->design->effects.end(),
                                [&](const SweptGrouping& held) { return held.name == name; });
                row.emplace_back(column.answer == nullptr ? std::string()
                                 : has                    ? word("yes")
                                                          : word("no"));
            }
            addRow(std::move(row));
        }
    }

    void foot(const ResultsPanel& panel) {
        static const std::vector<std::string> kUsual = {"rows", "r_squared", "sigma"};
        std::set<std::string> scales;
        for (const ResultsColumn& column : panel.columns) {
            if (column.answer != nullptr && column.answer->fit) {
                scales.insert(effectsIn(*column.answer->fit));
            }
        }
        std::vector<std::string> ids = look_.foot.empty() ? kUsual : look_.foot;
        if (scales.size() > 1 && std::find(ids.begin(), ids.end(), "effects_in") == ids.end()) {
            ids.insert(ids.begin(), "effects_in");
        }
        for (const std::string& id : ids) {
            const auto& all = footStatistics();
            const auto found = std::find_if(all.begin(), all.end(),
                                            [&](const FootStatistic& one) { return id == one.id; });
            if (found == all.end()) {
                continue;
            }
            CellRow row = {word(found->words)};
            bool any = false;
            for (const ResultsColumn& column : panel.columns) {
                row.push_back(column.answer != nullptr && column.answer->fit
                                  ? found->of(*column.answer)
                                  : Cell());
                any = any || !row.back().text.empty();
            }
            if (any) {
                addRow(std::move(row));
            }
        }
    }

    const std::vector<ResultsPanel>& panels_;
    TableLook look_;  ///< With the members of sets in place of their names.
    const std::string& language_;
    std::map<std::string, std::string> labels_;
    std::size_t columns_ = 0;
    std::set<std::string> told_;
    ReportBlock block_;
};

Cell numberOr(const std::optional<double>& value, int decimals, bool bare = true) {
    return value && std::isfinite(*value) ? Cell(fixedNumber(*value, decimals, bare), *value)
                                          : Cell();
}

/// What a column was made by, in the words of a note.
std::string madeBy(const Answer& answer) {
    const Question& q = answer.question;
    std::string out = q.method == Question().method ? "" : "by " + methodText(q) + ", ";
    out += q.errors.shown();
    out += answer.fit->errorNote.empty() ? "" : ", " + answer.fit->errorNote;
    out += q.weightKind == WeightKind::None
               ? ""
               : ", weighted by " + q.weight + " (" + weightName(q.weightKind) + ")";
    const std::string missing = missingText(q);
    out += missing.empty() ? "" : ", " + missing;
    out +=
        answer.fit->pooled == nullptr ? "" : " in " + countText(answer.fit->pooled->sets) + " sets";
    out += q.where.empty() ? "" : ", among " + q.where;
    return out;
}

/// “(1)–(3)”, “(1), (4)”.
std::string rangeText(const std::vector<std::size_t>& columns) {
    std::string out;
    for (std::size_t i = 0; i < columns.size();) {
        std::size_t end = i;
        while (end + 1 < columns.size() && columns[end + 1] == columns[end] + 1) {
            ++end;
        }
        out += (out.empty() ? "(" : ", (") + std::to_string(columns[i]) + ")";
        out += end > i ? (end > i + 1 ? "–(" : ", (") + std::to_string(columns[end]) + ")" : "";
        i = end + 1;
    }
    return out;
}

}  // namespace

std::map<std::string, std::string> labelsOf(const Study& study) {
    std::map<std::string, std::string> labels;
    for (const VariableEntry& entry : study.variables) {
        if (entry.label && !entry.label->empty()) {
            labels[entry.name] = *entry.label;
        }
    }
    for (const Derived& derived : study.derived) {
        if (!derived.label.empty()) {
            labels[derived.name] = derived.label;
        }
    }
    return labels;
}

const std::vector<FootStatistic>& footStatistics() {
    static const std::vector<FootStatistic> kAll = {
        {"effects_in", "Effects in", [](const Answer& a) { return Cell(effectsIn(*a.fit)); }},
        {"rows", "Rows",
         [](const Answer& a) {
             return Cell(countText(a.rows.used), static_cast<double>(a.rows.used));
         }},
        {"r_squared", "R²",
         [](const Answer& a) { return numberOr(a.fit->statistics.rSquared, 3); }},
        {"adjusted_r_squared", "Adjusted R²",
         [](const Answer& a) { return numberOr(a.fit->statistics.adjustedRSquared, 3); }},
        {"within", "R² within",
         [](const Answer& a) { return numberOr(a.fit->statistics.within, 3); }},
        {"sigma", "σ",
         [](const Answer& a) {
             const double sigma = a.fit->statistics.sigma;
             return std::isfinite(sigma) ? Cell(shortNumber(sigma, 3), sigma) : Cell("–");
         }},
        {"rho", "ρ",
         [](const Answer& a) { return a.fit->echo ? numberOr(a.fit->echo->rho, 3) : Cell(); }},
        {"groups", "Groups",
         [](const Answer& a) {
             if (!a.fit->levels) {
                 return Cell();
             }
             // From the outermost inward, as they lie within each other.
             std::string counts;
             for (const LevelsFit::Level& level : a.fit->levels->levels) {
                 counts = countText(level.labels.size()) + (counts.empty() ? "" : " / " + counts);
             }
             return Cell(counts);
         }},
        {"share_between", "Between groups",
         [](const Answer& a) {
             if (!a.fit->levels) {
                 return Cell();
             }
             const double share = a.fit->levels->shareBetween();
             if (!std::isfinite(share)) {
                 return Cell();
             }
             return Cell(fixedNumber(100.0 * share, 1) + " %", share);
         }},
        {"f", "F",
         [](const Answer& a) {
             const auto& f = a.fit->statistics.f;
             return f ? Cell(fixedNumber(f->value, 2), f->value) : Cell();
         }},
        {"log_likelihood", "Log-likelihood",
         [](const Answer& a) { return numberOr(a.fit->statistics.logLikelihood, 2, false); }},
        {"aic", "AIC", [](const Answer& a) { return numberOr(a.fit->statistics.aic, 1, false); }},
        {"bic", "BIC", [](const Answer& a) { return numberOr(a.fit->statistics.bic, 1, false); }},
        {"outcome", "Outcome", [](const Answer& a) { return Cell(shownNames(a.design->outcome)); }},
        {"errors", "Errors", [](const Answer& a) { return Cell(a.question.errors.shown()); }},
    };
    return kAll;
}

ReportBlock resultsTable(const Study& study, const std::vector<ResultsPanel>& panels,
                         const TableLook& look, const std::string& language) {
    return TableMaker(study, panels, look, language).make();
}

ReportBlock resultsTable(const Study& study, const std::vector<const Answer*>& answers) {
    ResultsPanel panel;
    for (const Answer* answer : answers) {
        panel.columns.push_back({answer, questionTitle(*answer), panel.columns.size()});
    }
    return resultsTable(study, {panel}, TableLook{});
}

std::string resultsNote(const std::vector<ResultsPanel>& panels, const TableLook& look,
                        double alpha, const std::string& language) {
    const auto word = [&](const char* english) { return fixedWord(english, language); };
    std::string note = look.below == "interval"
                           ? percentLevel(alpha) + " " + word("intervals in brackets")
                       : look.below == "t"       ? word("t in parentheses")
                       : look.below == "p"       ? word("p in parentheses")
                       : look.below == "nothing" ? std::string()
                                                 : word("Standard errors in parentheses");
    std::vector<std::pair<std::string, std::vector<std::size_t>>> ways;
    for (const ResultsPanel& panel : panels) {
        for (std::size_t c = 0; c < panel.columns.size(); ++c) {
            const Answer* answer = panel.columns[c].answer;
            if (answer == nullptr || !answer->fit) {
                continue;
            }
            const std::string way = madeBy(*answer);
            auto at = std::find_if(ways.begin(), ways.end(),
                                   [&](const auto& one) { return one.first == way; });
            if (at == ways.end()) {
                at = ways.insert(ways.end(), {way, {}});
            }
            if (std::find(at->second.begin(), at->second.end(), c + 1) == at->second.end()) {
                at->second.push_back(c + 1);
            }
        }
    }
    std::string told;
    for (const auto& [way, columns] : ways) {
        told += (told.empty() ? "" : "; ") +
                (ways.size() > 1 ? rangeText(columns) + " " : std::string()) + way;
    }
    note += (note.empty()   ? (told.empty() ? "" : word("Errors") + " ")
             : told.empty() ? ""
                            : ": ") +
            told;
    note += note.empty() ? "" : ".";
    if (!look.beside.empty()) {
        note +=
            std::string(note.empty() ? "" : " ") +
            (look.beside == "ratio" ? "Beside an estimate of logs, log odds or log rates, the "
                                      "factor that it stands for, exp(b)."
                                    : "Beside an estimate of logs, log odds or log rates, the "
                                      "change in percent that it stands for, 100 (exp(b) − 1).");
    }
    if (!look.stars.empty()) {
        note += note.empty() ? "" : " ";
        std::string mark;
        for (const double level : look.stars) {
            mark += "*";
            // “.05”, not “.050”.
            const int decimals = level >= 0.1 ? 1 : level >= 0.01 ? 2 : 3;
            note += (mark == "*" ? "" : ", ") + mark + " p < " + fixedNumber(level, decimals, true);
        }
        note += ".";
    }
    return note;
}

}  // namespace rapporto
