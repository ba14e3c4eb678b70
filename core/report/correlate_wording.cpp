#include "core/report/correlate_wording.h"

#include "core/base/format.h"
#include "core/report/wording.h"

#include <cmath>

namespace rapporto {

namespace {

std::string coefficientName(CorrelationKind kind) {
    return kind == CorrelationKind::Pearson    ? "Pearson correlation"
           : kind == CorrelationKind::Spearman ? "Spearman rank correlation"
                                               : "Kendall’s tau-b";
}

/// “weak”, “moderate”, … by size alone: words for orientation, not verdicts.
std::string strength(double r) {
    const double size = std::abs(r);
    return size < 0.1   ? "hardly any"
           : size < 0.3 ? "a weak"
           : size < 0.6 ? "a moderate"
                        : "a strong";
}

std::string rText(double r) { return fixedNumber(r, 3, true); }

}  // namespace

std::string correlateReading(const Answer& answer) {
    const CorrelationTable& t = *answer.correlations;
    const Eigen::Index p = t.r.rows();
    std::size_t clear = 0;
    std::size_t clearAdjusted = 0;
    std::size_t tested = 0;  // A partial tau has no p.
    Eigen::Index strongA = -1;
    Eigen::Index strongB = -1;
    Eigen::Index movedA = -1;
    Eigen::Index movedB = -1;
    std::size_t untold = 0;
    for (Eigen::Index a = 0; a < p; ++a) {
        for (Eigen::Index b = 0; b < a; ++b) {
            if (std::isnan(t.r(a, b))) {
                ++untold;
                continue;
            }
            tested += std::isnan(t.p(a, b)) ? 0U : 1U;
            clear += t.p(a, b) < answer.alpha ? 1U : 0U;
            clearAdjusted += t.adjusted(a, b) < answer.alpha ? 1U : 0U;
            if (strongA < 0 || std::abs(t.r(a, b)) > std::abs(t.r(strongA, strongB))) {
                strongA = a;
                strongB = b;
            }
            const auto moved = [&](Eigen::Index i, Eigen::Index j) {
                return std::abs(t.r(i, j) - t.plain(i, j));
            };
            if (!t.holding.empty() && (movedA < 0 || moved(a, b) > moved(movedA, movedB))) {
                movedA = a;
                movedB = b;
            }
        }
    }
    std::string text;
    const auto name = [&](Eigen::Index i) { return t.variables[static_cast<std::size_t>(i)]; };
    if (strongA >= 0) {
        text += "Strongest: **" + name(strongB) + "** and **" + name(strongA) + "**, " +
                rText(t.r(strongA, strongB)) + ".";
    }
    if (tested > 1 && clear > 0) {
        text += " " + countText(clear) + " of " + countText(tested) +
                (clear == 1 ? " pairs is clear of no relation at the "
                            : " pairs are clear of no relation at the ") +
                shortNumber(100.0 * answer.alpha, 3) + " % level one by one, " +
                countText(clearAdjusted) + " when it is counted that so many were looked at.";
    } else if (tested > 1) {
        text += " No pair is clear of no relation.";
    }
    if (movedA >= 0 && std::abs(t.r(movedA, movedB) - t.plain(movedA, movedB)) >= 0.05) {
        text += " Holding " + joinedNames(t.holding) + " changes most: " + name(movedB) + " and " +
                name(movedA) + " go from " + rText(t.plain(movedA, movedB)) + " to " +
                rText(t.r(movedA, movedB)) + ".";
    } else if (movedA >= 0) {
        text += " Holding " + joinedNames(t.holding) + " changes no correlation by .05.";
    }
    if (untold > 0) {
        text += " " + plural(untold, "pair", "pairs") +
                " cannot be told: a variable does not vary, or "
                "what is held determines it.";
    }
    return text;
}

std::vector<std::string> pairReading(const Answer& answer, std::size_t a, std::size_t b) {
    const CorrelationTable& t = *answer.correlations;
    const auto i = static_cast<Eigen::Index>(a);
    const auto j = static_cast<Eigen::Index>(b);
    std::vector<std::string> out;
    if (a == b) {
        out.push_back("**" + t.variables[a] + "** with itself: " +
                      countText(static_cast<std::size_t>(t.n(i, i))) + " rows have it.");
        return out;
    }
    const double r = t.r(i, j);
    const auto n = static_cast<std::size_t>(t.n(i, j));
    if (std::isnan(r)) {
        out.push_back("~In the " + plural(n, "row", "rows") +
                      " that have both, the correlation of **" + t.variables[a] + "** and **" +
                      t.variables[b] +
                      "** does not exist: one of them does not vary, or what is "
                      "held determines it.");
        return out;
    }
    std::string text = "The " + coefficientName(t.settings.kind) + " of **" + t.variables[a] +
                       "** and **" + t.variables[b] + "**" +
                       (t.holding.empty() ? "" : ", holding " + joinedNames(t.holding) + ",") +
                       " is **" + rText(r) + "**: " + strength(r) + " " +
                       (std::abs(r) < 0.1 ? "relation in "
                        : r > 0.0         ? "rise together in "
                                          : "opposite movement in ") +
                       plural(n, "row", "rows") + ".";
    if (std::isfinite(t.low(i, j)) && std::isfinite(t.high(i, j))) {
        text += " The data go with anything from " + rText(t.low(i, j)) + " to " +
                rText(t.high(i, j)) + " (" + shortNumber(100.0 * (1.0 - answer.alpha), 3) + " %).";
    }
    out.push_back(text);
    if (!std::isnan(t.p(i, j))) {
        const std::string sides = t.settings.sides == Sides::Two ? "at least this far from zero"
                                  : t.settings.sides == Sides::Greater ? "at least this large"
                                                                       : "at least this low";
        out.push_back("If there were no relation, one " + sides + " would turn up with " +
                      pClause(t.p(i, j)) +
                      (t.variables.size() > 2
                           ? "; counting that " +
                                 countText(t.variables.size() * (t.variables.size() - 1) / 2) +
                                 " pairs were looked at, " + pClause(t.adjusted(i, j))
                           : "") +
                      ".");
    } else if (t.settings.kind == CorrelationKind::Kendall && !t.holding.empty()) {
        out.emplace_back("A partial tau has no p and no interval: its law is not known.");
    }
    if (!t.holding.empty() && std::isfinite(t.plain(i, j))) {
        const double before = t.plain(i, j);
        const bool turned = before * r < 0.0 && std::abs(before) >= 0.05 && std::abs(r) >= 0.05;
        const double change = std::abs(r) - std::abs(before);
        out.push_back("Without holding anything it is " + rText(before) + " in the same rows: " +
                      (turned           ? "holding " + joinedNames(t.holding) + " turns it round."
                       : change < -0.05 ? "part of it went through " + joinedNames(t.holding) + "."
                       : change > 0.05
                           ? joinedNames(t.holding) + " had hidden part of it."
                           : "holding " + joinedNames(t.holding) + " leaves it about as it was.") +
                      " With what is left of " + t.variables[b] + " alone, " + t.variables[a] +
                      " correlates " + rText(t.semiPartial(i, j)) + " (semi-partial).");
    }
    out.emplace_back("~A correlation says that they move together, not why, and only as far as a " +
                     std::string(t.settings.kind == CorrelationKind::Pearson
                                     ? "straight line goes."
                                     : "rising or falling order goes."));
    return out;
}

std::string correlateSentence(const Question& q) {
    return "Correlate " + joinedNames(q.variables) +
           (q.holding.empty() ? "" : " holding " + joinedNames(q.holding)) + " by " +
           q.coefficient + " · " +
           (q.sides == "two"       ? "both sides"
            : q.sides == "greater" ? "greater"
                                   : "less") +
           (q.listwise ? " · rows with everything" : " · each pair its rows") +
           (q.where.empty() ? "" : " · among " + q.where);
}

namespace {

/// The lower triangle with p in small.
ReportBlock triangle(const CorrelationTable& t) {
    ReportBlock block;
    block.kind = ReportBlock::Kind::Table;
    block.cells.push_back({""});
    for (const std::string& name : t.variables) {
        block.cells[0].emplace_back(name);
    }
    for (Eigen::Index i = 0; i < t.r.rows(); ++i) {
        CellRow row = {t.variables[static_cast<std::size_t>(i)]};
        for (Eigen::Index j = 0; j < t.r.rows(); ++j) {
            row.push_back(j > i    ? Cell()
                          : j == i ? Cell("1", 1.0)
                          : std::isnan(t.r(i, j))
                              ? Cell("–")
                              : Cell(fixedNumber(t.r(i, j), 3, true) + " (" +
                                         (std::isnan(t.p(i, j)) ? "–" : pText(t.p(i, j))) + ")",
                                     t.r(i, j)));
        }
        block.cells.push_back(std::move(row));
    }
    block.rules = {0};
    return block;
}

}  // namespace

void correlateReport(ReportSheet& sheet, const Answer& answer, const std::string& item) {
    const CorrelationTable& t = *answer.correlations;
    if (item == "reading") {
        sheet.put(ReportBlock::Kind::Paragraph,
                  "**" + questionTitle(answer) + ".** " + answerReading(answer));
    } else if (item == "table") {
        sheet.tableCaption(questionTitle(answer) + ": correlations" +
                           (t.holding.empty() ? "" : ", holding " + joinedNames(t.holding)));
        sheet.add(triangle(t));
        sheet.put(ReportBlock::Kind::Note,
                  std::string(t.settings.kind == CorrelationKind::Pearson    ? "Pearson"
                              : t.settings.kind == CorrelationKind::Spearman ? "Spearman"
                                                                             : "Kendall tau-b") +
                      " correlations with p in parentheses, " +
                      (t.settings.sides == Sides::Two ? "two-sided" : "one-sided") + "; " +
                      rowsReading(answer.rows));
    }
}

std::string correlationsAsText(const CorrelationTable& table) {
    std::string out;
    const auto block = [&](const std::string& name, const Eigen::MatrixXd& matrix) {
        out += name;
        for (const std::string& variable : table.variables) {
            out += "\t" + variable;
        }
        out += "\n";
        for (Eigen::Index i = 0; i < matrix.rows(); ++i) {
            out += table.variables[static_cast<std::size_t>(i)];
            for (Eigen::Index j = 0; j < matrix.cols(); ++j) {
                out += "\t" + (std::isnan(matrix(i, j)) ? "" : exactNumber(matrix(i, j)));
            }
            out += "\n";
        }
    };
    block("r", table.r);
    block("p", table.p);
    block("n", table.n);
    return out;
}

}  // namespace rapporto
