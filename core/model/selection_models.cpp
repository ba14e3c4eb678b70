// Two normal equations joined by a correlation: an outcome that some rows lack, a yes–no outcome
// with instruments; and a count with what its first stages leave.
#include "core/base/format.h"
#include "core/model/instruments.h"
#include "core/model/likelihood.h"
#include "core/model/outcome_models.h"
#include "core/model/panel.h"
#include "core/numerics/distributions.h"
#include "core/numerics/normal_below.h"

#include <algorithm>
#include <cmath>
#include <limits>
#include <numbers>

namespace rapporto {
namespace {

using Eigen::Index;
using Eigen::MatrixXd;
using Eigen::VectorXd;

const double kHalfLog = 0.5 * std::log(2.0 * std::numbers::pi);

/// ℓ = ln Φ(q v) − u²/2 − s − ½ ln 2π with u = (w − m)e^−s and v = p cosh a + u sinh a, where
/// ρ = tanh a: a normal w about m with spread e^s, and a sign q of an index p whose error is joined
/// to it. Derivatives by (p, m, s, a).
struct JointTerms {
    double value = 0.0;
    double g[4] = {};
    double h[4][4] = {};
};

JointTerms jointTerms(double q, double p, double w, double m, double s, double a, bool curved) {
    JointTerms out;
    const double t = std::exp(-s);
    const double C = std::cosh(a);
    const double S = std::sinh(a);
    const double u = (w - m) * t;
    const double v = p * C + u * S;
    const NormalBelow tail = normalBelow(q * v);
    const double slope = q * tail.ratio;
    const double bend = -tail.ratio * (q * v + tail.ratio);
    const double dv[4] = {C, -t * S, -u * S, p * S + u * C};
    const double du[4] = {0.0, -t, -u, 0.0};
    out.value = tail.value - 0.5 * u * u - s - kHalfLog;
    for (int x = 0; x < 4; ++x) {
        out.g[x] = slope * dv[x] - u * du[x];
    }
    out.g[2] -= 1.0;
    if (!curved) {
        return out;
    }
    double d2v[4][4] = {};
    double d2u[4][4] = {};
    d2v[0][3] = S;
    d2v[1][2] = t * S;
    d2v[1][3] = -t * C;
    d2v[2][2] = u * S;
    d2v[2][3] = -u * C;
    d2v[3][3] = v;
    d2u[1][2] = t;
    d2u[2][2] = u;
    for (int x = 0; x < 4; ++x) {
        for (int y = x; y < 4; ++y) {
            out.h[x][y] = out.h[y][x] =
                bend * dv[x] * dv[y] + slope * d2v[x][y] - du[x] * du[y] - u * d2u[x][y];
        }
    }
    return out;
}

/// Copies the terms into the order in which a model has its parameters.
void ordered(const JointTerms& terms, const int (&order)[4], double* g, double* H) {
    for (int x = 0; x < 4; ++x) {
        g[x] = terms.g[order[x]];
        for (int y = 0; H != nullptr && y < 4; ++y) {
            H[4 * x + y] = terms.h[order[x]][order[y]];
        }
    }
}

/// Indices: the outcome’s, that of being seen; then ln σ and the inverse tanh of ρ.
class SelectionModel final : public RowModel {
  public:
    SelectionModel(const VectorXd& y, const std::vector<char>& unseen) : y_(y), unseen_(unseen) {}

    [[nodiscard]] int indices() const override { return 2; }

    [[nodiscard]] int extras() const override { return 2; }

    double row(Index i, const double* at, double* g, double* H) const override {
        if (unseen_[static_cast<std::size_t>(i)] != 0) {
            const NormalBelow tail = normalBelow(-at[1]);
            std::fill_n(g, 4, 0.0);
            g[1] = -tail.ratio;
            if (H != nullptr) {
                std::fill_n(H, 16, 0.0);
                H[5] = -tail.ratio * (tail.ratio - at[1]);
            }
            return tail.value;
        }
        const JointTerms terms = jointTerms(1.0, at[1], y_(i), at[0], at[2], at[3], H != nullptr);
        ordered(terms, {1, 0, 2, 3}, g, H);
        return terms.value;
    }

  private:
    const VectorXd& y_;
    const std::vector<char>& unseen_;
};

/// Indices: that of yes, the endogenous term’s; then ln σ of the latter and the inverse tanh of ρ.
class JoinedProbitModel final : public RowModel {
  public:
    JoinedProbitModel(const VectorXd& y, VectorXd moved) : y_(y), moved_(std::move(moved)) {}

    [[nodiscard]] int indices() const override { return 2; }

    [[nodiscard]] int extras() const override { return 2; }

    double row(Index i, const double* at, double* g, double* H) const override {
        const JointTerms terms = jointTerms(y_(i) > 0.0 ? 1.0 : -1.0, at[0], moved_(i), at[1],
                                            at[2], at[3], H != nullptr);
        ordered(terms, {0, 1, 2, 3}, g, H);
        return terms.value;
    }

  private:
    const VectorXd& y_;
    VectorXd moved_;
};

/// The last two parameters, ln σ and the inverse tanh of ρ, as σ and ρ.
void nameJoint(LikelihoodInput& input, Index spread) {
    input.further.push_back({"spread", "sigma"});
    input.further.push_back({"correlation", "rho"});
    input.shown = [spread](Index j, double value) {
        if (j == spread) {
            return std::pair(std::exp(value), std::exp(value));
        }
        const double rho = std::tanh(value);
        return j == spread + 1 ? std::pair(rho, 1.0 - rho * rho) : std::pair(value, 1.0);
    };
}

/// Why a search for two joined equations led nowhere, or nothing: its last parameter is the inverse
/// tanh of ρ.
std::optional<Refusal> ranToOne(const Result<Maximum>& found, const std::string& help) {
    constexpr double kOne = 9.0;  // tanh of it is one but for 3e-8.
    if (found && std::abs(found->theta(found->theta.size() - 1)) <= kOne) {
        return std::nullopt;
    }
    if (!found && found.error().code == ErrorCode::Stopped) {
        return found.error();
    }
    return Refusal{ErrorCode::NotConverged,
                   "the correlation of the two equations runs to one: the likelihood has no inner "
                   "maximum",
                   "method",
                   help,
                   {}};
}

/// Both parts of a selection.
struct Selection {
    std::vector<Index> seen;
    KeptColumns columns;  ///< Of the outcome’s equation, over the rows that are seen.
    KeptColumns zero;     ///< Of the equation of being seen.
    MatrixXd Z;
    bool zeroConstant = false;
    std::vector<DesignColumn> names;  ///< Of Z.
    Maximum probit;
};

/// 1 where the outcome is seen, 0 elsewhere.
VectorXd seenRows(const Design& design) {
    VectorXd out(design.y.size());
    for (Index i = 0; i < out.size(); ++i) {
        out(i) = design.unseen[static_cast<std::size_t>(i)] != 0 ? 0.0 : 1.0;
    }
    return out;
}

tl::unexpected<Refusal> noEffectsHere() {
    return refuse(ErrorCode::NotBuilt,
                  "effects held fixed are not built for two equations joined by a correlation",
                  "held fixed", "Put the grouping among the terms.");
}

Result<Selection> selectionOf(const Design& design, const Job& job) {
    if (!design.effects.empty()) {
        return noEffectsHere();
    }
    Selection out;
    const VectorXd isSeen = seenRows(design);
    for (Index i = 0; i < isSeen.size(); ++i) {
        if (isSeen(i) > 0.0) {
            out.seen.push_back(i);
        }
    }
    if (out.seen.size() == design.unseen.size()) {
        return refuse(ErrorCode::BadSetting,
                      "every row has its ‘" + design.outcome + "’: nothing is left out", "method",
                      "Use least squares, or let the sample hold the rows without outcome.");
    }
    const bool own = design.zeroX.cols() > 0;
    const MatrixXd& zeroX = own ? design.zeroX : design.X;
    const auto& zeroColumns = own ? design.zeroColumns : design.columns;
    out.zeroConstant = own || design.hasConstant;
    auto columns = independentColumns(MatrixXd(design.X(out.seen, Eigen::all)), design.columns,
                                      design.hasConstant, job);
    auto zero = independentColumns(zeroX, zeroColumns, out.zeroConstant, job);
    if (!columns || !zero) {
        return tl::make_unexpected((columns ? zero : columns).error());
    }
    if (out.seen.size() <= columns->kept.size() + 2) {
        return refuse(ErrorCode::TooFewRows,
                      plural(out.seen.size(), "row has", "rows have") +
                          " an outcome, too few for " +
                          plural(columns->kept.size(), "coefficient", "coefficients"),
                      "sample", "Take terms out or widen the sample.");
    }
    out.columns = *std::move(columns);
    out.zero = *std::move(zero);
    out.Z = zeroX(Eigen::all, out.zero.kept);
    for (const Index c : out.zero.kept) {
        out.names.push_back(zeroColumns[static_cast<std::size_t>(c)]);
    }
    if (const auto certain = findSeparation(out.Z, 2.0 * isSeen.array() - 1.0, job)) {
        const std::string name = out.names[static_cast<std::size_t>(certain->columns.front())].name;
        return refuse(ErrorCode::RankDeficient,
                      "‘" + name + "’ tells for certain of " +
                          plural(certain->rows.size(), "row", "rows") +
                          " whether the outcome is seen",
                      "seen", "Take it out of what decides whether the outcome is seen.", {name});
    }
    auto probit = maximise({{out.Z, VectorXd(), out.zeroConstant}}, *probitModel(isSeen),
                           VectorXd::Zero(out.Z.cols()), design.weights, job);
    if (!probit) {
        return tl::make_unexpected(probit.error());
    }
    out.probit = *std::move(probit);
    return out;
}

/// The design without the rows that have no outcome.
Design seenDesign(const Design& design, const std::vector<Index>& seen) {
    Design out = withRows(design, seen);
    out.unseen.clear();
    out.zeroX = MatrixXd();
    out.zeroColumns.clear();
    out.zeroTerms.clear();
    out.counts = design.counts;
    return out;
}

/// Least squares of the seen rows with the inverse Mills ratio as a last column.
struct Mills {
    MatrixXd X;      ///< Kept columns, then the ratio.
    VectorXd delta;  ///< λ(λ + index), by which a row’s spread falls.
    LinearSolution solution;
};

Result<Mills> millsOf(const Design& design, const Selection& selection, const Job& job) {
    const auto n = static_cast<Index>(selection.seen.size());
    const auto k = static_cast<Index>(selection.columns.kept.size());
    Mills out;
    out.X.resize(n, k + 1);
    out.X.leftCols(k) = design.X(selection.seen, selection.columns.kept);
    out.delta.resize(n);
    for (Index i = 0; i < n; ++i) {
        const double index = selection.probit.index(selection.seen[static_cast<std::size_t>(i)], 0);
        const double ratio = normalBelow(index).ratio;
        out.X(i, k) = ratio;
        out.delta(i) = ratio * (ratio + index);
    }
    const VectorXd y = design.y(selection.seen);
    const VectorXd w =
        design.weights.size() > 0 ? VectorXd(design.weights(selection.seen)) : VectorXd();
    auto solution = solveLinear({out.X, y, w, design.hasConstant}, false, job);
    if (!solution) {
        return tl::make_unexpected(solution.error());
    }
    if (static_cast<Index>(solution->kept.size()) != k + 1) {
        return refuse(ErrorCode::RankDeficient,
                      "what decides whether the outcome is seen says no more than the terms do",
                      "seen", "Name something that decides it and is no term itself.");
    }
    out.solution = *std::move(solution);
    return out;
}

std::string sameTermsNote(const Design& design) {
    for (const DesignTerm& zero : design.zeroTerms) {
        if (std::none_of(design.terms.begin(), design.terms.end(),
                         [&](const DesignTerm& term) { return term.name == zero.name; })) {
            return {};
        }
    }
    return "Nothing decides whether the outcome is seen that is not a term itself: the two "
           "are told apart by the normal curve alone.";
}

/// Likelihood ratio of no correlation, or its z where weights leave no likelihood and where the
/// errors asked for do not take it at its word; then what follows from it.
std::string apartNote(const Fit& fit, const Design& design, const ErrorSpec& errors, double alpha,
                      const std::string& together, const std::string& apart) {
    const Coefficient& rho = fit.coefficients.back();
    const auto ratio = apartTest(fit, design, errors);
    const double p = ratio ? ratio->p : rho.p.value_or(1.0);
    return "The errors of the two equations have a correlation of " + fixedNumber(rho.estimate, 2) +
           " (" +
           (ratio ? "likelihood ratio " + shortNumber(ratio->statistic, 3) + ", "
                  : std::string("z test, ")) +
           pClause(p) + "). " + (p < alpha ? together : apart);
}

std::string unseenNote(const Design& design, std::size_t seen) {
    const std::size_t unseen = static_cast<std::size_t>(design.y.size()) - seen;
    return plural(unseen, "row has", "rows have") + " no " + design.outcome + " and " +
           (unseen == 1 ? "speaks" : "speak") + " of who is seen alone.";
}

}  // namespace

std::optional<ApartTest> apartTest(const Fit& fit, const Design& design, const ErrorSpec& errors) {
    if (fit.likelihood == nullptr || !fit.likelihood->apartLogLikelihood ||
        errors.kind != "classical" || design.weightKind == WeightKind::Sampling) {
        return std::nullopt;
    }
    const double ratio =
        std::max(0.0, 2.0 * (fit.likelihood->logLikelihood - *fit.likelihood->apartLogLikelihood));
    return ApartTest{ratio, chiSquareTail(ratio, 1.0)};
}

Result<Fit> fitHeckman(const Design& design, const EstimatorSettings& /*settings*/,
                       const ErrorSpec& errors, double alpha, const Job& job) {
    auto selection = selectionOf(design, job);
    if (!selection) {
        return tl::make_unexpected(selection.error());
    }
    const auto k = static_cast<Index>(selection->columns.kept.size());
    const Index q = selection->Z.cols();
    const IndexPart part{MatrixXd(design.X(Eigen::all, selection->columns.kept)), VectorXd(),
                         design.hasConstant};
    const IndexPart second{selection->Z, VectorXd(), selection->zeroConstant};
    const VectorXd y = design.y(selection->seen);
    const MatrixXd seenX = part.X(selection->seen, Eigen::all);
    const VectorXd w = design.weights.size() > 0 ? VectorXd(design.weights(selection->seen))
                                                 : VectorXd(VectorXd::Ones(y.size()));
    // The two equations apart: ρ = 0 at its maximum.
    const auto least = solveLinear({seenX, y, w, design.hasConstant}, false, job);
    if (!least) {
        return tl::make_unexpected(least.error());
    }
    const double spread = std::sqrt(std::max(least->residualSquares / w.sum(), 1e-300));
    const double apart =
        selection->probit.logLikelihood - w.sum() * (std::log(spread) + kHalfLog + 0.5);
    VectorXd start(k + q + 2);
    start.head(k) = least->coefficients;
    start.segment(k, q) = selection->probit.theta;
    start(k + q) = std::log(spread);
    start(k + q + 1) = 0.0;
    // Two steps know the sign of ρ and its size about; where they lead nowhere, from zero.
    const SelectionModel model(design.y, design.unseen);
    VectorXd better = start;
    if (const auto mills = millsOf(design, *selection, job)) {
        const double theta = mills->solution.coefficients(k);
        const double sigma = std::sqrt(mills->solution.residualSquares / w.sum() +
                                       theta * theta * mills->delta.dot(w) / w.sum());
        better.head(k) = mills->solution.coefficients.head(k);
        better(k + q) = std::log(sigma);
        better(k + q + 1) = std::atanh(std::clamp(theta / sigma, -0.9, 0.9));
    }
    auto found = maximise({part, second}, model, better, design.weights, job);
    if (!found && found.error().code != ErrorCode::Stopped) {
        found = maximise({part, second}, model, start, design.weights, job);
    }
    if (auto lost = ranToOne(found,
                             "Name something that decides whether the outcome is seen and is "
                             "no term itself, or take two steps.")) {
        return tl::make_unexpected(*std::move(lost));
    }
    auto told = std::make_shared<LikelihoodFit>(families::kHeckman);
    told->density = true;
    told->unseen = design.unseen.size() - selection->seen.size();
    told->extras = found->theta.tail(2);
    told->apartLogLikelihood = apart;
    if (design.hasConstant && selection->zeroConstant) {
        const MatrixXd one = MatrixXd::Ones(design.y.size(), 1);
        const double mean = w.dot(y) / w.sum();
        const double logSpread =
            0.5 * std::log((w.array() * (y.array() - mean).square()).sum() / w.sum());
        // With constants alone ρ is not told: the two apart.
        const VectorXd isSeen = seenRows(design);
        const auto probit = maximise({{one, VectorXd(), true}}, *probitModel(isSeen),
                                     VectorXd::Zero(1), design.weights, job, false);
        told->nullLogLikelihood =
            probit ? probit->logLikelihood - w.sum() * (logSpread + kHalfLog + 0.5)
                   : LikelihoodFit::kNone;
    }
    const VectorXd fitted = found->index.col(0);
    LikelihoodInput input{design,
                          *std::move(found),
                          selection->columns.kept,
                          selection->columns.dropped,
                          {},
                          {},
                          {},
                          std::move(told),
                          fitted};
    input.dropped.insert(input.dropped.end(), selection->zero.dropped.begin(),
                         selection->zero.dropped.end());
    for (const DesignColumn& column : selection->names) {
        input.further.push_back({"seen", column.name});
    }
    nameJoint(input, k + q);
    auto fit = fitOfLikelihood(std::move(input), errors, alpha, job);
    if (!fit) {
        return fit;
    }
    const auto& seen = selection->seen;
    fit->fitted = VectorXd(fit->fitted(seen));
    fit->residuals = VectorXd(fit->residuals(seen));
    fit->leverage = VectorXd(fit->leverage(seen));
    fit->solution.residuals = fit->residuals;
    auto own = std::make_shared<LikelihoodFit>(*fit->likelihood);
    own->index = MatrixXd(own->index(seen, Eigen::all));
    fit->likelihood = std::move(own);
    fit->notes.push_back(unseenNote(design, seen.size()));
    fit->notes.push_back(apartNote(*fit, design, errors, alpha,
                                   "Who is seen goes with what is left of the outcome: least "
                                   "squares of those seen alone would be off.",
                                   "Nothing shows that who is seen goes with what is left of the "
                                   "outcome: least squares of those seen may do."));
    if (const std::string note = sameTermsNote(design); !note.empty()) {
        fit->notes.push_back(note);
    }
    fit->linearised = std::make_shared<const Design>(seenDesign(design, seen));
    return fit;
}

Result<Fit> fitHeckmanTwoStep(const Design& design, const EstimatorSettings& /*settings*/,
                              const ErrorSpec& errors, double alpha, const Job& job) {
    auto selection = selectionOf(design, job);
    if (!selection) {
        return tl::make_unexpected(selection.error());
    }
    auto mills = millsOf(design, *selection, job);
    if (!mills) {
        return tl::make_unexpected(mills.error());
    }
    const auto& seen = selection->seen;
    const auto n = static_cast<Index>(seen.size());
    const auto k = static_cast<Index>(selection->columns.kept.size());
    LinearSolution& s = mills->solution;
    const VectorXd w =
        design.weights.size() > 0 ? VectorXd(design.weights(seen)) : VectorXd(VectorXd::Ones(n));
    const double theta = s.coefficients(k);
    const MatrixXd Zs = selection->Z(seen, Eigen::all);
    const MatrixXd& X = mills->X;
    // Derivative of the second step’s equations by the first step’s coefficients.
    const VectorXd wd = w.cwiseProduct(mills->delta);
    // Everything in orthonormal columns, X F and Z G: far from zero products of the columns
    // themselves lose what the inverse cancels.
    const MatrixXd& G = selection->probit.factor;
    const MatrixXd ZG = Zs * G;
    const MatrixXd Q = orthonormalColumns(X, s);
    const MatrixXd B = Q.transpose() * wd.asDiagonal() * ZG;
    // In the scores also the ratio’s own column moves with them.
    MatrixXd moved = theta * (X.transpose() * wd.asDiagonal() * ZG);
    moved.row(k) -= (wd.cwiseProduct(s.residuals)).transpose() * ZG;
    const double sigma2 = (s.residualSquares + theta * theta * wd.sum()) / w.sum();
    Covariance covariance;
    if (errors.kind == "classical") {
        const MatrixXd meat = sigma2 * (Q.transpose() * w.asDiagonal() * Q) -
                              theta * theta * (Q.transpose() * wd.asDiagonal() * Q) +
                              theta * theta * (B * B.transpose());
        covariance.matrix = s.factor * meat * s.factor.transpose();
        covariance.df = std::numeric_limits<double>::infinity();
    } else {
        // Scores of all rows: the second step’s of those seen, and what the first step adds.
        MatrixXd scores = (selection->probit.scores * G) * moved.transpose();
        for (Index i = 0; i < n; ++i) {
            scores.row(seen[static_cast<std::size_t>(i)]) += s.residuals(i) * X.row(i);
        }
        const double rows = rowsStoodFor(design);
        auto made = covarianceOfScores(design, scores, s.factor, {}, rows,
                                       rows - static_cast<double>(k + 1), errors, alpha, job);
        if (!made) {
            return tl::make_unexpected(made.error());
        }
        covariance = *std::move(made);
    }
    Design shown = seenDesign(design, seen);
    // The ratio stands among the columns: its coefficient is ρσ.
    shown.X = MatrixXd(n, design.X.cols() + 1);
    shown.X.leftCols(design.X.cols()) = design.X(seen, Eigen::all);
    shown.X.rightCols(1) = X.col(k);
    DesignTerm term;
    term.name = "inverse Mills ratio";
    term.label = term.name;
    term.columns = {design.X.cols()};
    term.added = true;
    shown.columns.push_back({term.name, term.name, static_cast<int>(shown.terms.size()), false});
    shown.terms.push_back(std::move(term));
    s.kept = selection->columns.kept;
    s.kept.push_back(design.X.cols());
    GivenSolution given{shown.X, s, std::move(covariance), std::numeric_limits<double>::infinity()};
    auto fit = fitGiven(shown, std::move(given), errors, alpha, job);
    if (!fit) {
        return fit;
    }
    fit->dropped.insert(fit->dropped.end(), selection->columns.dropped.begin(),
                        selection->columns.dropped.end());
    fit->dropped.insert(fit->dropped.end(), selection->zero.dropped.begin(),
                        selection->zero.dropped.end());
    const double rho = theta / std::sqrt(sigma2);
    fit->notes.push_back(unseenNote(design, seen.size()));
    fit->notes.push_back(
        "The errors of the two equations have a correlation of " + fixedNumber(rho, 2) +
        " and the outcome’s a spread of " + shortNumber(std::sqrt(sigma2), 4) +
        (std::abs(rho) > 1.0 ? ". No correlation is beyond one: the two steps do not agree here. "
                               "Hold the answer against ‘heckman’, which fits both at once."
                             : "."));
    if (const std::string note = sameTermsNote(design); !note.empty()) {
        fit->notes.push_back(note);
    }
    fit->linearised = std::make_shared<const Design>(std::move(shown));
    return fit;
}

Result<Fit> fitProbitInstruments(const Design& design, const EstimatorSettings& /*settings*/,
                                 const ErrorSpec& errors, double alpha, const Job& job) {
    if (!design.effects.empty()) {
        return noEffectsHere();
    }
    if ((design.y.array() != 0.0 && design.y.array() != 1.0).any()) {
        return refuse(ErrorCode::BadSetting,
                      "‘" + design.outcome + "’ holds other values than 0 and 1", "outcome",
                      "Use two-stage least squares, or an outcome that is yes or no.");
    }
    auto parts = instrumentParts(design, job);
    if (!parts) {
        return tl::make_unexpected(parts.error());
    }
    if (parts->endogenous.size() != 1) {
        return refuse(ErrorCode::NotBuilt,
                      "probit takes one column that instruments move, and here are " +
                          std::to_string(parts->endogenous.size()),
                      "instruments", "Use two-stage least squares for several.");
    }
    auto columns = independentColumns(design.X, design.columns, design.hasConstant, job);
    if (!columns) {
        return tl::make_unexpected(columns.error());
    }
    const Index moved = parts->endogenous.front();
    const IndexPart part{MatrixXd(design.X(Eigen::all, columns->kept)), VectorXd(),
                         design.hasConstant};
    const IndexPart first{parts->W.matrix(), VectorXd(), design.hasConstant};
    const Index k = part.X.cols();
    const Index q = first.X.cols();
    const VectorXd w = rowWeights(design);
    const VectorXd sign = 2.0 * design.y.array() - 1.0;
    if (const auto certain = findSeparation(part.X, sign, job)) {
        const std::string name =
            design
                .columns[static_cast<std::size_t>(
                    columns->kept[static_cast<std::size_t>(certain->columns.front())])]
                .name;
        return refuse(ErrorCode::RankDeficient,
                      "‘" + name + "’ tells ‘" + design.outcome + "’ for certain in " +
                          plural(certain->rows.size(), "row", "rows"),
                      "terms", "Take it out or merge its levels.", {name});
    }
    const auto probit =
        maximise(part, *probitModel(design.y), VectorXd::Zero(k), design.weights, job, false);
    if (!probit) {
        return tl::make_unexpected(probit.error());
    }
    const double spread =
        std::sqrt((w.array() * parts->left.col(0).array().square()).sum() / w.sum());
    VectorXd start(k + q + 2);
    start.head(k) = probit->theta;
    start.segment(k, q) = parts->onW.coefficients;
    start(k + q) = std::log(spread);
    start(k + q + 1) = 0.0;
    const double apart = probit->logLikelihood - w.sum() * (std::log(spread) + kHalfLog + 0.5);
    const JoinedProbitModel model(design.y, design.X.col(moved));
    auto found = maximise({part, first}, model, start, design.weights, job);
    if (auto lost = ranToOne(found, "Use two-stage least squares, or stronger instruments.")) {
        return tl::make_unexpected(*std::move(lost));
    }
    auto told = std::make_shared<LikelihoodFit>(families::kProbitInstruments);
    told->extras = found->theta.tail(2);
    told->apartLogLikelihood = apart;
    const VectorXd index = found->index.col(0);
    // What is expected given the term’s own error, too.
    const double a = found->theta(k + q + 1);
    const VectorXd u = (design.X.col(moved) - found->index.col(1)) * std::exp(-found->theta(k + q));
    VectorXd fitted(index.size());
    for (Index i = 0; i < fitted.size(); ++i) {
        fitted(i) = std::exp(normalBelow(index(i) * std::cosh(a) + u(i) * std::sinh(a)).value);
    }
    LikelihoodInput input{design, *std::move(found), columns->kept, columns->dropped, {}, {},
                          {},     std::move(told),   fitted};
    for (const DesignColumn& column : parts->columns) {
        input.further.push_back({"first", column.name});
    }
    nameJoint(input, k + q);
    auto fit = fitOfLikelihood(std::move(input), errors, alpha, job);
    if (fit) {
        fit->notes.push_back(apartNote(*fit, design, errors, alpha,
                                       "The term is moved by what moves the outcome too: a plain "
                                       "probit would be off.",
                                       "Nothing shows that the term is moved by what moves the "
                                       "outcome too: a plain probit may do."));
    }
    return fit;
}

Result<Fit> fitPoissonControl(const Design& design, const EstimatorSettings& /*settings*/,
                              const ErrorSpec& errors, double alpha, const Job& job) {
    if (!design.effects.empty()) {
        return noEffectsHere();
    }
    if ((design.y.array() < 0.0).any()) {
        return refuse(ErrorCode::BadSetting, "the outcome ‘" + design.outcome + "’ is negative",
                      "outcome", "A count or an amount is zero or more.", {design.outcome});
    }
    auto parts = instrumentParts(design, job);
    if (!parts) {
        return tl::make_unexpected(parts.error());
    }
    Design shown = design;
    const Index before = design.X.cols();
    const auto g = static_cast<Index>(parts->endogenous.size());
    shown.X.conservativeResize(Eigen::NoChange, before + g);
    shown.X.rightCols(g) = parts->left;
    for (const Index column : parts->endogenous) {
        DesignTerm term;
        term.name = "left of " + design.columns[static_cast<std::size_t>(column)].name;
        term.label = term.name;
        term.columns = {static_cast<Index>(shown.columns.size())};
        term.added = true;
        shown.columns.push_back(
            {term.name, term.name, static_cast<int>(shown.terms.size()), false});
        shown.terms.push_back(std::move(term));
    }
    auto columns = independentColumns(shown.X, shown.columns, design.hasConstant, job);
    if (!columns) {
        return tl::make_unexpected(columns.error());
    }
    const IndexPart part{MatrixXd(shown.X(Eigen::all, columns->kept)), design.offset,
                         design.hasConstant};
    const VectorXd w = rowWeights(design);
    VectorXd start = VectorXd::Zero(part.X.cols());
    if (design.hasConstant) {
        const double exposed =
            design.offset.size() > 0 ? w.dot(design.offset.array().exp().matrix()) : w.sum();
        start(0) = std::log(std::max(w.dot(design.y) / exposed, 1e-300));
    }
    auto found = maximise(part, *poissonModel(design.y), start, design.weights, job);
    if (!found) {
        return tl::make_unexpected(found.error());
    }
    // dS/dπ of the second stage’s equations, times the first stage’s rows W v (W'wW)⁻¹.
    const VectorXd mean = found->index.col(0).array().exp();
    // Far from zero products of columns lose what their inverse cancels: in orthonormal ones
    // W(W'wW)⁻¹ stands as Q F'.
    const MatrixXd Q = orthonormalColumns(parts->W, parts->onW);
    for (Index j = 0; j < g; ++j) {
        const auto at = std::find(columns->kept.begin(), columns->kept.end(), before + j);
        if (at == columns->kept.end()) {
            continue;
        }
        const auto place = static_cast<Index>(at - columns->kept.begin());
        const double rho = found->theta(place);
        MatrixXd B = rho * (part.X.transpose() * (w.cwiseProduct(mean)).asDiagonal() * Q);
        B.row(place) -= (w.cwiseProduct(design.y - mean)).transpose() * Q;
        found->scores += parts->left.col(j).asDiagonal() * (Q * B.transpose());
    }
    auto told = std::make_shared<LikelihoodFit>(families::kPoissonControl);
    told->pearson = (w.array() * (design.y - mean).array().square() / mean.array()).sum();
    told->deviance = 0.0;
    for (Index i = 0; i < mean.size(); ++i) {
        const double y = design.y(i);
        told->deviance +=
            2.0 * w(i) * ((y > 0.0 ? y * std::log(y / mean(i)) : 0.0) - (y - mean(i)));
    }
    LikelihoodInput input{shown, *std::move(found), columns->kept, columns->dropped, {}, {},
                          {},    std::move(told),   mean};
    const bool plain = errors.kind == "classical";
    auto fit = fitOfLikelihood(std::move(input), plain ? ErrorSpec{"robust", "HC1", {}} : errors,
                               alpha, job);
    if (!fit) {
        return fit;
    }
    if (plain) {
        fit->errorNote = "robust: both stages together";
    }
    // The second stage is no likelihood of the whole.
    fit->statistics.aic.reset();
    fit->statistics.bic.reset();
    fit->linearised = std::make_shared<const Design>(std::move(shown));
    return fit;
}

}  // namespace rapporto
