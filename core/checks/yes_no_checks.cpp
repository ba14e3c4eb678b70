// Does the yes–no or ordered model fit?
#include "core/base/format.h"
#include "core/checks/common.h"
#include "core/model/likelihood.h"
#include "core/model/outcome_models.h"
#include "core/numerics/distributions.h"

#include <algorithm>
#include <cmath>
#include <numeric>

namespace rapporto {
namespace {

using Eigen::Index;
using Eigen::MatrixXd;
using Eigen::VectorXd;

double weightOf(const CheckInput& in, Index i) {
    return in.design.weights.size() > 0 ? in.design.weights(i) : 1.0;
}

bool isYesNo(const CheckInput& in) {
    return in.fit.likelihood->family->outcome == Family::Outcome::YesNo;
}

std::vector<Index> byProbability(const CheckInput& in) {
    std::vector<Index> order(static_cast<std::size_t>(in.fit.fitted.size()));
    std::iota(order.begin(), order.end(), Index{0});
    std::stable_sort(order.begin(), order.end(),
                     [&](Index a, Index b) { return in.fit.fitted(a) < in.fit.fitted(b); });
    return order;
}

void offerSquares(const CheckInput& in, CheckResult& result) {
    for (const DesignTerm& term : in.design.terms) {
        if (term.columns.size() == 1 && !term.groups && !term.yesNo && !term.isProduct &&
            term.factors.size() == 1) {
            offerSquare(in, term.name, result);
            return;
        }
    }
}

void offerLink(const CheckInput& in, CheckResult& result) {
    const bool logit = in.question.method == "logit";
    Question variant = variantBase(in, logit ? "complementary log-log" : "logit");
    variant.method = logit ? "cloglog" : "logit";
    variant.settings = EstimatorSettings{};
    result.remedies.push_back({logit ? "Try the complementary log-log" : "Try the logit",
                               "another way from the terms to the probability",
                               std::move(variant)});
}

}  // namespace

// Hosmer & Lemeshow (1980), Communications in Statistics A 9: ten groups by fitted probability.
CheckResult checkHosmerLemeshow(const CheckInput& in) {
    if (!isYesNo(in)) {
        return notApplicable("It is made for outcomes of yes and no.");
    }
    if (in.design.weights.size() > 0) {
        return notApplicable("It is not built for weights.");
    }
    const auto order = byProbability(in);
    const std::size_t n = order.size();
    constexpr std::size_t kGroups = 10;
    if (n < 5 * kGroups) {
        return notApplicable("Ten groups need fifty rows at least.");
    }
    CheckResult result;
    double chi = 0.0;
    Exhibit e;
    Exhibit::Line line{"as told", {0.0, 1.0}, {0.0, 1.0}};
    line.dashed = true;
    std::size_t groups = 0;
    for (std::size_t begin = 0; begin < n;) {
        // Equal probabilities stay together.
        std::size_t end = std::min(n, (groups + 1) * n / kGroups);
        end = std::max(end, begin + 1);
        while (end < n && in.fit.fitted(order[end]) == in.fit.fitted(order[end - 1])) {
            ++end;
        }
        double yes = 0.0;
        double expected = 0.0;
        for (std::size_t i = begin; i < end; ++i) {
            yes += in.design.y(order[i]);
            expected += in.fit.fitted(order[i]);
        }
        const auto size = static_cast<double>(end - begin);
        const double p = expected / size;
        chi += (yes - expected) * (yes - expected) / std::max(expected * (1.0 - p), 1e-300);
        const double share = yes / size;
        const double reach = 1.96 * std::sqrt(std::max(p * (1.0 - p), 0.0) / size);
        e.intervals.push_back(
            {p, std::max(share - reach, 0.0), share, std::min(share + reach, 1.0)});
        ++groups;
        begin = end;
    }
    if (groups < 4) {
        return notApplicable("The fitted probabilities fall in too few groups.");
    }
    const double df = static_cast<double>(groups) - 2.0;
    result.statistic = chi;
    result.statisticName = "Hosmer–Lemeshow χ²";
    result.df = {df};
    result.distribution = "chi2";
    result.p = chiSquareTail(chi, df);
    result.details = {{"groups", static_cast<double>(groups)}};
    const double size = std::max(chi - df, 0.0) / static_cast<double>(n);
    result.verdict = judge(*result.p, in.alpha, size, 0.01, 0.05);
    result.headline = pClause(*result.p);
    result.reading =
        result.verdict == Verdict::Fine
            ? "In groups of rows by their probability the share with yes is as told (" +
                  pClause(*result.p) + "). With other groups the number would be another."
            : "In groups of rows by their probability the share with yes is not as told (" +
                  pClause(*result.p) + "): the shape is off, or a term is missing.";
    e.title = result.verdict == Verdict::Fine ? "Probabilities are as told"
                                              : "Probabilities are not as told";
    e.subtitle = "share with yes against the probability told, rows in " + std::to_string(groups) +
                 " groups · n = " + countText(n);
    e.xTitle = "probability told";
    e.yTitle = "share with yes";
    e.lines.push_back(std::move(line));
    result.exhibit = std::move(e);
    if (result.verdict != Verdict::Fine) {
        offerSquares(in, result);
        offerLink(in, result);
    }
    return result;
}

// Hanley & McNeil (1982), Radiology 143; error by DeLong, DeLong & Clarke-Pearson (1988),
// Biometrics 44.
CheckResult checkRoc(const CheckInput& in) {
    if (!isYesNo(in)) {
        return notApplicable("It is made for outcomes of yes and no.");
    }
    const auto order = byProbability(in);
    const std::size_t n = order.size();
    double yes = 0.0;
    double no = 0.0;
    for (const Index i : order) {
        (in.design.y(i) == 1.0 ? yes : no) += weightOf(in, i);
    }
    if (!(yes > 0.0) || !(no > 0.0)) {
        return notApplicable("One answer does not occur.");
    }
    // Place of each row among those of the other answer: ties count half.
    VectorXd place(static_cast<Index>(n));
    double noBelow = 0.0;
    double yesBelow = 0.0;
    for (std::size_t begin = 0; begin < n;) {
        std::size_t end = begin;
        double yesHere = 0.0;
        double noHere = 0.0;
        while (end < n && in.fit.fitted(order[end]) == in.fit.fitted(order[begin])) {
            (in.design.y(order[end]) == 1.0 ? yesHere : noHere) += weightOf(in, order[end]);
            ++end;
        }
        for (std::size_t i = begin; i < end; ++i) {
            place(order[i]) = in.design.y(order[i]) == 1.0 ? (noBelow + 0.5 * noHere) / no
                                                           : (yes - yesBelow - 0.5 * yesHere) / yes;
        }
        noBelow += noHere;
        yesBelow += yesHere;
        begin = end;
    }
    double area = 0.0;
    for (Index i = 0; i < place.size(); ++i) {
        area += in.design.y(i) == 1.0 ? weightOf(in, i) * place(i) / yes : 0.0;
    }
    double ofYes = 0.0;
    double ofNo = 0.0;
    for (Index i = 0; i < place.size(); ++i) {
        const double d = place(i) - area;
        (in.design.y(i) == 1.0 ? ofYes : ofNo) += weightOf(in, i) * d * d;
    }
    const double se =
        std::sqrt(ofYes / std::max(yes - 1.0, 1.0) / yes + ofNo / std::max(no - 1.0, 1.0) / no);
    CheckResult result;
    result.statistic = area;
    result.statisticName = "area under the curve";
    const double reach = criticalValue(in.alpha, std::nullopt) * se;
    result.details = {
        {"se", se}, {"low", std::max(area - reach, 0.0)}, {"high", std::min(area + reach, 1.0)}};
    // What a cut at each tenth tells right.
    Exhibit e;
    Exhibit::Line curve{"", {}, {}};
    curve.series = 1;
    double yesAbove = yes;
    double noAbove = no;
    curve.x.push_back(1.0);
    curve.y.push_back(1.0);
    for (std::size_t i = 0; i < n; ++i) {
        (in.design.y(order[i]) == 1.0 ? yesAbove : noAbove) -= weightOf(in, order[i]);
        if (i + 1 == n || in.fit.fitted(order[i + 1]) != in.fit.fitted(order[i])) {
            curve.x.push_back(noAbove / no);
            curve.y.push_back(yesAbove / yes);
        }
    }
    for (const double cut : {0.1, 0.2, 0.3, 0.4, 0.5, 0.6, 0.7, 0.8, 0.9}) {
        double hit = 0.0;
        double spared = 0.0;
        for (Index i = 0; i < place.size(); ++i) {
            const bool told = in.fit.fitted(i) >= cut;
            hit += told && in.design.y(i) == 1.0 ? weightOf(in, i) : 0.0;
            spared += !told && in.design.y(i) == 0.0 ? weightOf(in, i) : 0.0;
        }
        const std::string at = "cut " + shortNumber(cut);
        result.details.emplace_back(at + " right", (hit + spared) / (yes + no));
        result.details.emplace_back(at + " of yes", hit / yes);
        result.details.emplace_back(at + " of no", spared / no);
        e.intervals.push_back({1.0 - spared / no, hit / yes, hit / yes, hit / yes});
    }
    result.verdict = area >= 0.7 ? Verdict::Fine : area >= 0.55 ? Verdict::Weigh : Verdict::Fails;
    result.headline = "area " + fixedNumber(area, 2, true);
    result.reading =
        "Of a row with yes and one with no the terms give the yes the higher probability in **" +
        fixedNumber(100.0 * area, 0) + " %** of pairs (" +
        fixedNumber(100.0 * std::max(area - reach, 0.0), 0) + " to " +
        fixedNumber(100.0 * std::min(area + reach, 1.0), 0) +
        " %; by chance 50 %). This is how well rows are told apart, not whether effects are right.";
    e.title = area >= 0.7 ? "The terms tell yes from no" : "The terms hardly tell yes from no";
    e.subtitle =
        "share of yes found against share of no taken for yes, at every cut; marks at "
        "tenths";
    e.xTitle = "no taken for yes";
    e.yTitle = "yes found";
    Exhibit::Line chance{"chance", {0.0, 1.0}, {0.0, 1.0}};
    chance.dashed = true;
    e.lines.push_back(std::move(chance));
    e.lines.push_back(std::move(curve));
    result.exhibit = std::move(e);
    if (result.verdict != Verdict::Fine) {
        offerSquares(in, result);
        offerLink(in, result);
    }
    return result;
}

// Brant (1990), Biometrics 46: slopes of the binary logits at every cut, compared.
CheckResult checkParallelLines(const CheckInput& in) {
    const Family& family = *in.fit.likelihood->family;
    const bool ordered = family.outcome == Family::Outcome::Ordered;
    if (!ordered || family.curve != Family::Curve::Logit) {
        return notApplicable(ordered ? "It is worked out for the ordered logit."
                                     : "It is made for ordered outcomes.");
    }
    if (in.design.weights.size() > 0) {
        return notApplicable("It is not built for weights.");
    }
    const auto levels = static_cast<Index>(in.design.levelNames.size());
    const Index n = in.design.y.size();
    const Index k = static_cast<Index>(in.fit.solution.kept.size());
    MatrixXd X(n, k + 1);
    X.col(0).setOnes();
    X.rightCols(k) = in.design.X(Eigen::all, in.fit.solution.kept);
    // Centred: the constants of the cuts are not compared, and products lose no digits.
    for (Index j = 1; j <= k; ++j) {
        X.col(j).array() -= X.col(j).mean();
    }
    std::vector<VectorXd> slopes;
    std::vector<VectorXd> p;
    std::vector<MatrixXd> inverse;
    for (Index cut = 1; cut < levels; ++cut) {
        Design binary = in.design;
        binary.X = X;
        binary.columns.assign(static_cast<std::size_t>(k + 1), DesignColumn{"c", "", 0, false});
        for (std::size_t j = 0; j < binary.columns.size(); ++j) {
            binary.columns[j].name = "c" + std::to_string(j);
        }
        binary.hasConstant = true;
        binary.levelNames.clear();
        binary.y = in.design.y.unaryExpr(
            [cut](double y) { return y >= static_cast<double>(cut) ? 1.0 : 0.0; });
        const auto fit = fitLogit(binary, {}, ErrorSpec{}, in.alpha, in.job);
        if (!fit || static_cast<Index>(fit->coefficients.size()) != k + 1) {
            return notApplicable("At cut " + std::to_string(cut) +
                                 " the terms tell the answer for certain.");
        }
        VectorXd b(k);
        for (Index j = 0; j < k; ++j) {
            b(j) = fit->coefficients[static_cast<std::size_t>(j + 1)].estimate;
        }
        slopes.push_back(std::move(b));
        p.push_back(fit->fitted);
        inverse.push_back(fit->covariance);
    }
    const auto m = static_cast<Index>(slopes.size());
    if (m < 2) {
        return notApplicable("There is one cut: nothing to compare.");
    }
    MatrixXd V(m * k, m * k);
    for (Index a = 0; a < m; ++a) {
        for (Index b = a; b < m; ++b) {
            const auto i = static_cast<std::size_t>(a);
            const auto j = static_cast<std::size_t>(b);
            // P(above both) is that of the higher cut.
            const VectorXd w = p[j].array() * (1.0 - p[i].array());
            const MatrixXd between = inverse[i] * (X.transpose() * w.asDiagonal() * X) * inverse[j];
            V.block(a * k, b * k, k, k) = between.bottomRightCorner(k, k);
            V.block(b * k, a * k, k, k) = between.bottomRightCorner(k, k).transpose();
        }
    }
    VectorXd d((m - 1) * k);
    MatrixXd D = MatrixXd::Zero((m - 1) * k, m * k);
    for (Index a = 1; a < m; ++a) {
        d.segment((a - 1) * k, k) = slopes[0] - slopes[static_cast<std::size_t>(a)];
        D.block((a - 1) * k, 0, k, k).setIdentity();
        D.block((a - 1) * k, a * k, k, k) = -MatrixXd::Identity(k, k);
    }
    const auto f = waldF(d, D * V * D.transpose());
    if (!f) {
        return notApplicable("The slopes at the cuts cannot be told apart.");
    }
    CheckResult result;
    const auto q = static_cast<double>(d.size());
    result.statistic = *f * q;
    result.statisticName = "Brant’s χ²";
    result.df = {q};
    result.distribution = "chi2";
    result.p = chiSquareTail(*result.statistic, q);
    double most = 0.0;
    std::string worst;
    for (Index j = 0; j < k; ++j) {
        double least = slopes[0](j);
        double largest = slopes[0](j);
        std::vector<Index> own;
        for (Index a = 0; a + 1 < m; ++a) {
            own.push_back(a * k + j);
            least = std::min(least, slopes[static_cast<std::size_t>(a + 1)](j));
            largest = std::max(largest, slopes[static_cast<std::size_t>(a + 1)](j));
        }
        const MatrixXd all = D * V * D.transpose();
        const auto one = waldF(d(own), all(own, own));
        const std::string name = in.design
                                     .columns[static_cast<std::size_t>(
                                         in.fit.solution.kept[static_cast<std::size_t>(j)])]
                                     .name;
        if (one) {
            const auto df = static_cast<double>(own.size());
            result.details.emplace_back(name + " p", chiSquareTail(*one * df, df));
        }
        if (largest - least > most) {
            most = largest - least;
            worst = name;
        }
    }
    result.verdict = *result.p >= in.alpha ? Verdict::Fine
                     : *result.p < 0.01    ? Verdict::Fails
                                           : Verdict::Weigh;
    result.headline = pClause(*result.p);
    result.reading = result.verdict == Verdict::Fine
                         ? "The effects are the same at every cut, as far as the rows tell (" +
                               pClause(*result.p) + ")."
                         : "The effects differ from cut to cut (" + pClause(*result.p) +
                               "), that of " + worst +
                               " most: one effect for all levels hides where it acts.";
    Exhibit e;
    e.title = result.verdict == Verdict::Fine ? "One slope for every cut will do"
                                              : "Slopes differ from cut to cut";
    e.subtitle = "each term’s effect on the log odds of lying above the cut";
    e.xTitle = "cut";
    e.yTitle = "effect on log odds";
    e.zeroLine = true;
    for (Index j = 0; j < k && j < 8; ++j) {
        Exhibit::Line line;
        line.name = in.design
                        .columns[static_cast<std::size_t>(
                            in.fit.solution.kept[static_cast<std::size_t>(j)])]
                        .name;
        line.series = static_cast<int>(j % 4);
        for (Index a = 0; a < m; ++a) {
            const auto at = static_cast<double>(a) + 1.0;
            const double b = slopes[static_cast<std::size_t>(a)](j);
            const double se = std::sqrt(V(a * k + j, a * k + j));
            line.x.push_back(at);
            line.y.push_back(b);
            if (k <= 4) {
                e.intervals.push_back({at + 0.04 * static_cast<double>(j), b - 1.96 * se, b,
                                       b + 1.96 * se, static_cast<int>(j % 4)});
            }
        }
        e.lines.push_back(std::move(line));
    }
    // Room at both ends for the names of the cuts.
    Exhibit::Line none;
    none.x = {0.6, static_cast<double>(m) + 0.4};
    none.y = {0.0, 0.0};
    none.faint = true;
    e.lines.push_back(std::move(none));
    for (Index a = 0; a < m; ++a) {
        e.xTicks.push_back({static_cast<double>(a) + 1.0,
                            in.design.levelNames[static_cast<std::size_t>(a)] + " | " +
                                in.design.levelNames[static_cast<std::size_t>(a + 1)]});
    }
    result.exhibit = std::move(e);
    if (result.verdict != Verdict::Fine) {
        Question variant = variantBase(in, "several groups");
        variant.method = "multinomial-logit";
        variant.settings = EstimatorSettings{};
        result.remedies.push_back({"Give every level effects of its own",
                                   "logit of several groups, their order set aside",
                                   std::move(variant)});
    }
    return result;
}

// Albert & Anderson (1984), Biometrika 71.
CheckResult checkSeparation(const CheckInput& in) {
    const LikelihoodFit& told = *in.fit.likelihood;
    CheckResult result;
    result.exhibit = residualExhibit(in);
    if (told.family->outcome == Family::Outcome::Count) {
        result.statistic = static_cast<double>(told.separated);
        result.statisticName = "rows told to be zero for certain";
        result.verdict = Verdict::Fine;
        result.headline = plural(told.separated, "row", "rows");
        result.reading =
            told.separated == 0
                ? "No combination of the terms tells a zero for certain."
                : plural(told.separated, "row was", "rows were") +
                      " told to be zero for certain and left: effects that are seen in them alone "
                      "have no finite value.";
        result.exhibit.title = "What is left against the expected count";
        return result;
    }
    if (told.family->outcome != Family::Outcome::YesNo) {
        return notApplicable("It is worked out for counts and for outcomes of yes and no.");
    }
    std::size_t sure = 0;
    std::vector<std::size_t> rows;
    for (Index i = 0; i < in.fit.fitted.size(); ++i) {
        const double off = std::abs(in.design.y(i) - in.fit.fitted(i));
        if (off < 1e-4) {
            ++sure;
        }
    }
    double largest = 0.0;
    std::string name;
    for (const Coefficient& c : in.fit.coefficients) {
        if (c.designTerm < 0) {
            continue;
        }
        // How far one standard deviation of the term moves the log odds, and how unsure that is.
        const auto x = in.design.X.col(c.column);
        const double sd = std::sqrt((x.array() - x.mean()).square().mean());
        if (c.se * sd > largest) {
            largest = c.se * sd;
            name = c.term;
        }
    }
    result.statistic = static_cast<double>(sure);
    result.statisticName = "rows told within .0001";
    result.details = {{"largest error in spreads of a term", largest}};
    const bool penalised = in.question.settings.penalised;
    result.verdict = penalised || largest < 1.5 ? Verdict::Fine
                     : largest < 5.0            ? Verdict::Weigh
                                                : Verdict::Fails;
    result.headline = plural(sure, "sure row", "sure rows");
    result.reading =
        penalised ? "The penalty keeps every effect finite whether or not a term tells the answer."
        : result.verdict == Verdict::Fine
            ? "Yes and no lie mixed: every effect has a finite estimate."
            : "The effect of " + name +
                  " is hardly held by the rows: yes and no are almost told apart by it, and the "
                  "estimate lies far out with a large error.";
    result.exhibit.title = "What is left against the probability";
    if (result.verdict != Verdict::Fine) {
        Question variant = variantBase(in, "penalised logit");
        variant.method = "logit";
        variant.settings.penalised = true;
        result.remedies.push_back({"Penalise (Firth)",
                                   "pulls estimates in from far out; finite whatever the rows",
                                   std::move(variant)});
        offerWithoutTerm(in, name, result);
    }
    return result;
}

}  // namespace rapporto
