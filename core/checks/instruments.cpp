// Can the cause be trusted? What instruments can and cannot carry.
#include "core/model/instruments.h"

#include "core/base/format.h"
#include "core/base/shown_names.h"
#include "core/checks/common.h"
#include "core/checks/weak_table.h"
#include "core/describe/correlation.h"
#include "core/model/likelihood.h"
#include "core/numerics/distributions.h"

#include <boost/math/distributions/non_central_chi_squared.hpp>

#include <algorithm>
#include <cmath>
#include <limits>
#include <numbers>

namespace rapporto {
namespace {

using Eigen::Index;
using Eigen::MatrixXd;
using Eigen::VectorXd;

/// A likelihood whose term is moved by instruments: its first stage is that of two-stage.
bool likelihoodByInstruments(const CheckInput& in) {
    return in.fit.likelihood != nullptr && hasTrait(in.question.method, trait::kByInstruments);
}

bool byInstruments(const CheckInput& in) {
    return in.fit.instrumented != nullptr || likelihoodByInstruments(in);
}

/// Runs a check of first stages on the question's own columns: a control function has more, what
/// the first stages leave.
template <class Run>
CheckResult onOwnColumns(const CheckInput& in, const Run& run) {
    if (in.fit.likelihood == nullptr || !in.fit.likelihood->family->firstStages) {
        return run(in);
    }
    Design own = in.design;
    // One for each endogenous column.
    const auto controls =
        std::count_if(own.columns.begin(), own.columns.end(), [&](const DesignColumn& column) {
            return column.term >= 0 && own.terms[static_cast<std::size_t>(column.term)].endogenous;
        });
    own.X.conservativeResize(Eigen::NoChange, own.X.cols() - controls);
    own.columns.resize(static_cast<std::size_t>(own.X.cols()));
    own.terms.resize(own.terms.size() - static_cast<std::size_t>(controls));
    return run({in.frame, in.question, own, in.fit, in.options, in.alpha, in.job});
}

/// Why there is nothing to look at, or the parts. Least squares does not rest on instruments, but
/// may be held against them.
tl::expected<InstrumentParts, std::string> partsOf(const CheckInput& in,
                                                   bool alsoLeastSquares = false) {
    if (in.design.Z.cols() == 0) {
        return tl::make_unexpected(
            std::string("No instrument is named. Where a term may be moved "
                        "by what moves the outcome, say after “where” what "
                        "moves it from outside."));
    }
    if (!byInstruments(in) && !alsoLeastSquares) {
        return tl::make_unexpected(
            std::string("This question is asked by least squares and does not rest on its "
                        "instruments."));
    }
    auto parts = instrumentParts(in.design, in.job);
    if (!parts) {
        return tl::make_unexpected(parts.error().text());
    }
    return *std::move(parts);
}

bool classical(const CheckInput& in) {
    return in.question.errors.kind == "classical" || in.question.errors.kind == "bootstrap";
}

/// The question’s own errors; by drawing there is no formula, so that clusters or robust stand in.
ErrorSpec errorsOf(const CheckInput& in) {
    ErrorSpec errors = in.question.errors;
    if (errors.kind == "bootstrap") {
        errors = in.design.clusters.empty() ? ErrorSpec{"robust", "HC1", {}}
                                            : ErrorSpec{"clustered", "HC1", errors.by};
    }
    return errors;
}

double columnsOf(const InstrumentParts& parts) { return static_cast<double>(parts.W.cols()); }

double leftOver(const CheckInput& in, const InstrumentParts& parts) {
    return rowsStoodFor(in.design) - columnsOf(parts) - in.design.effectsRank;
}

std::string namesOfEndogenous(const CheckInput& in, const InstrumentParts& parts) {
    std::vector<std::string> names;
    for (const Index c : parts.endogenous) {
        names.push_back(in.design.columns[static_cast<std::size_t>(c)].name);
    }
    return joinedNames(names);
}

std::string instrumentName(const CheckInput& in, const InstrumentParts& parts, std::size_t j) {
    return in.design.instrumentColumns[static_cast<std::size_t>(parts.excluded[j])].name;
}

void offerMethod(const CheckInput& in, const std::string& method, const std::string& label,
                 const std::string& why, CheckResult& result) {
    if (in.question.method == method) {
        return;
    }
    Question variant = variantBase(in, label);
    variant.method = method;
    result.remedies.push_back({label, why, std::move(variant)});
}

void offerWithoutInstrument(const CheckInput& in, const std::string& name, CheckResult& result) {
    Question variant = variantBase(in, "without the instrument " + name);
    const auto gone = std::erase_if(variant.instruments, [&](const Term& term) {
        return term.kind == Term::Kind::Expression &&
               plainName(canonicalText(term.parts.front())) == plainName(name);
    });
    if (gone > 0 && !variant.instruments.empty()) {
        result.remedies.push_back({"Take " + name + " out of the instruments",
                                   "see whether the effect hangs on it", std::move(variant)});
    }
}

/// The endogenous column against what the instruments say of it, the other terms taken out.
Exhibit stageExhibit(const CheckInput& in, const InstrumentParts& parts) {
    Exhibit e;
    const PartialledOut out = partialledOut(in.design, parts);
    const VectorXd moved = out.excluded * (out.excluded.transpose() * out.endogenous.col(0));
    const std::string name =
        in.design.columns[static_cast<std::size_t>(parts.endogenous.front())].name;
    e.subtitle = name +
                 " against what the instruments say of it, the other terms taken out · n = " +
                 countText(in.design.rows.size());
    e.xTitle = name + " by the instruments";
    e.yTitle = name + ", other terms taken out";
    e.x.assign(moved.begin(), moved.end());
    e.y.assign(out.endogenous.col(0).begin(), out.endogenous.col(0).end());
    e.rows = in.design.rows;
    e.zeroLine = true;
    e.lines.push_back({"equal",
                       {moved.minCoeff(), moved.maxCoeff()},
                       {moved.minCoeff(), moved.maxCoeff()},
                       true});
    return e;
}

/// Estimates of the first endogenous column under several ways, as upright intervals.
struct Way {
    std::string name;
    double low;
    double estimate;
    double high;
};

Exhibit waysExhibit(const CheckInput& in, const InstrumentParts& parts,
                    const std::vector<Way>& ways) {
    Exhibit e;
    e.subtitle = "effect of " +
                 in.design.columns[static_cast<std::size_t>(parts.endogenous.front())].name +
                 " with its interval";
    e.yTitle = "effect on " + in.design.outcome;
    e.zeroLine = true;
    for (std::size_t i = 0; i < ways.size(); ++i) {
        e.xNames.push_back(ways[i].name);
        e.intervals.push_back({static_cast<double>(i) + 1.0, ways[i].low, ways[i].estimate,
                               ways[i].high, static_cast<int>(i)});
    }
    return e;
}

std::optional<Way> wayOf(const std::string& name, const Result<Fit>& fit, Index column) {
    if (!fit) {
        return std::nullopt;
    }
    for (const Coefficient& c : fit->coefficients) {
        if (c.column == column) {
            return Way{name, c.low, c.estimate, c.high};
        }
    }
    return std::nullopt;
}

/// The design on some of its instruments.
Design withInstruments(const Design& design, const std::vector<Index>& columns) {
    Design out = design;
    out.Z = MatrixXd(design.Z(Eigen::all, columns));
    out.instrumentColumns.clear();
    for (const Index c : columns) {
        out.instrumentColumns.push_back(design.instrumentColumns[static_cast<std::size_t>(c)]);
    }
    return out;
}

/// Moments of two-stage residuals, for a part of the instruments by the weight of all.
struct Moments {
    MatrixXd S;  ///< In the columns of W.
    MatrixXd WX;
    VectorXd We;
};

Result<Moments> momentsOf(const CheckInput& in, const InstrumentParts& parts,
                          const ErrorSpec& errors) {
    const auto fit = fitTwoStage(in.design, {}, errors, in.alpha, in.job);
    if (!fit) {
        return tl::make_unexpected(fit.error());
    }
    const auto S = momentVariance(in.design, parts, fit->residuals, errors, in.job);
    if (!S) {
        return tl::make_unexpected(S.error());
    }
    // Columns of unit length keep the moments comparable.
    const VectorXd root = in.design.weights.size() > 0 ? VectorXd(in.design.weights.cwiseSqrt())
                                                       : VectorXd::Ones(in.design.y.size());
    const MatrixXd W = root.asDiagonal() * parts.W.matrix();
    const MatrixXd P = instrumentBasis(in.design, parts);
    const MatrixXd turn = P.transpose() * W;  // W = P·turn
    Moments out;
    out.S = turn.transpose() * *S * turn;
    out.WX = W.transpose() * (root.asDiagonal() * in.design.X(Eigen::all, fit->solution.kept));
    out.We = W.transpose() * root.cwiseProduct(fit->residuals);
    return out;
}

/// Smallest criterion over the coefficients, for some of the moments.
double criterionOf(const Moments& m, const std::vector<Index>& rows) {
    const VectorXd unit = m.S.diagonal()(rows).cwiseSqrt().cwiseInverse();
    const MatrixXd S = unit.asDiagonal() * m.S(rows, rows) * unit.asDiagonal();
    const MatrixXd X = unit.asDiagonal() * m.WX(rows, Eigen::all);
    const VectorXd e = unit.asDiagonal() * m.We(rows);
    const Eigen::LLT<MatrixXd> llt(S);
    const MatrixXd A = llt.matrixL().solve(X);
    const VectorXd b = llt.matrixL().solve(e);
    const VectorXd left = b - A * A.colPivHouseholderQr().solve(b);
    return left.squaredNorm();
}

/// Covariance of Q'V for the residuals V of the first stages, l·g × l·g by columns, Q the
/// instruments outside of the equation made orthonormal.
Result<MatrixXd> stageVariance(const CheckInput& in, const InstrumentParts& parts,
                               const MatrixXd& Q, const ErrorSpec& errors,
                               std::optional<double> left = {}) {
    const MatrixXd turn = instrumentBasis(in.design, parts).transpose() * Q;
    const Index g = parts.left.cols();
    const Index l = Q.cols();
    const auto of = [&](const VectorXd& v) -> Result<MatrixXd> {
        auto S = momentVariance(in.design, parts, v, errors, in.job, left);
        if (!S) {
            return S;
        }
        return MatrixXd(turn.transpose() * *S * turn);
    };
    MatrixXd out(l * g, l * g);
    for (Index a = 0; a < g; ++a) {
        const auto own = of(parts.left.col(a));
        if (!own) {
            return own;
        }
        out.block(a * l, a * l, l, l) = *own;
    }
    for (Index a = 0; a < g; ++a) {
        for (Index b = 0; b < a; ++b) {
            // A sum over products is half of what two columns together have more than each.
            const auto both = of(parts.left.col(a) + parts.left.col(b));
            if (!both) {
                return both;
            }
            const MatrixXd cross =
                0.5 * (*both - out.block(a * l, a * l, l, l) - out.block(b * l, b * l, l, l));
            out.block(a * l, b * l, l, l) = cross;
            out.block(b * l, a * l, l, l) = cross.transpose();
        }
    }
    return out;
}

struct Ranks {
    double craggDonald = 0.0;              ///< F.
    double anderson = 0.0;                 ///< n times the smallest squared canonical correlation.
    std::optional<double> kleibergenPaap;  ///< Wald chi-square of rank g − 1, in the errors.
    std::optional<double> kleibergenPaapF;
};

MatrixXd rootOfSquare(const MatrixXd& M) {
    const Eigen::SelfAdjointEigenSolver<MatrixXd> solver(M);
    return solver.eigenvectors() * solver.eigenvalues().cwiseMax(0.0).cwiseSqrt().asDiagonal() *
           solver.eigenvectors().transpose();
}

/// Kleibergen & Paap (2006), Journal of Econometrics 133: the smallest singular value of the
/// normalised coefficients with its variance.
std::optional<double> smallestRank(const MatrixXd& Pi, const MatrixXd& sigma, const MatrixXd& S) {
    const Index l = Pi.rows();
    const Index g = Pi.cols();
    const Eigen::LLT<MatrixXd> llt(sigma.inverse());
    const MatrixXd G = llt.matrixU();  // G'G = Σ⁻¹
    const MatrixXd Theta = Pi * G.transpose();
    const Eigen::JacobiSVD<MatrixXd> svd(Theta, Eigen::ComputeFullU | Eigen::ComputeFullV);
    const Index q = g - 1;
    const MatrixXd& U = svd.matrixU();
    const MatrixXd& V = svd.matrixV();
    const MatrixXd U22 = U.bottomRightCorner(l - q, l - q);
    const MatrixXd V22 = V.bottomRightCorner(g - q, g - q);
    const MatrixXd A =
        U.rightCols(l - q) * U22.fullPivLu().solve(rootOfSquare(U22 * U22.transpose()));
    const MatrixXd B = rootOfSquare(V22 * V22.transpose()) *
                       V22.transpose().fullPivLu().solve(V.rightCols(g - q).transpose());
    const VectorXd lambda = (A.transpose() * Theta * B.transpose()).reshaped();
    // vec(A'ΘB') = (B ⊗ A') vec Θ, and vec Θ = (G ⊗ I) vec Π.
    const MatrixXd BG = B * G;
    MatrixXd K(lambda.size(), l * g);
    for (Index i = 0; i < BG.rows(); ++i) {
        for (Index j = 0; j < g; ++j) {
            K.block(i * (l - q), j * l, l - q, l) = BG(i, j) * A.transpose();
        }
    }
    const MatrixXd omega = K * S * K.transpose();
    const Eigen::LDLT<MatrixXd> ldlt(omega);
    const VectorXd pivots = ldlt.vectorD();
    if (ldlt.info() != Eigen::Success || pivots.minCoeff() <= 1e-13 * pivots.maxCoeff()) {
        return std::nullopt;
    }
    return lambda.dot(ldlt.solve(lambda));
}

Ranks ranksOf(const CheckInput& in, const InstrumentParts& parts, const PartialledOut& out) {
    const MatrixXd Pi = out.excluded.transpose() * out.endogenous;
    const MatrixXd explained = Pi.transpose() * Pi;
    const MatrixXd total = out.endogenous.transpose() * out.endogenous;
    const MatrixXd rest = total - explained;
    const double n = rowsStoodFor(in.design);
    const double left = leftOver(in, parts);
    const Eigen::GeneralizedSelfAdjointEigenSolver<MatrixXd> strength(explained, rest / left,
                                                                      Eigen::EigenvaluesOnly);
    const Eigen::GeneralizedSelfAdjointEigenSolver<MatrixXd> canonical(explained, total,
                                                                       Eigen::EigenvaluesOnly);
    const double l = static_cast<double>(Pi.rows());
    Ranks r;
    r.craggDonald = strength.eigenvalues()(0) / l;
    r.anderson = n * canonical.eigenvalues()(0);
    const ErrorSpec errors = errorsOf(in);
    if (errors.kind == "classical") {
        return r;
    }
    const auto S = stageVariance(in, parts, out.excluded, errors);
    const auto wide = stageVariance(in, parts, out.excluded, errors, left);
    if (S && wide && S->trace() > 0.0) {
        r.kleibergenPaap = smallestRank(Pi, rest / n, *S);
        if (r.kleibergenPaap) {
            r.kleibergenPaapF = *r.kleibergenPaap / (wide->trace() / S->trace()) / l;
        }
    }
    return r;
}

/// Montiel Olea & Pflueger (2013), Journal of Business & Economic Statistics 31, one endogenous
/// term: the simplified critical value for a bias of `tau` of the worst case.
struct Effective {
    double f = 0.0;
    double df = 0.0;         ///< At a tenth.
    double tenth = 0.0;      ///< Critical value for a bias of .10 …
    double thirtieth = 0.0;  ///< … and of .30.
};

double effectiveCritical(const MatrixXd& W, double tau, double* df) {
    const double x = 1.0 / tau;
    const double trace = W.trace();
    const double largest =
        Eigen::SelfAdjointEigenSolver<MatrixXd>(W, Eigen::EigenvaluesOnly).eigenvalues().maxCoeff();
    const double k =
        trace * trace * (1.0 + 2.0 * x) / ((W * W).trace() + 2.0 * x * trace * largest);
    if (df != nullptr) {
        *df = k;
    }
    return boost::math::quantile(boost::math::complement(
               boost::math::non_central_chi_squared_distribution<double>(k, k * x), 0.05)) /
           k;
}

std::optional<Effective> effectiveOf(const CheckInput& in, const InstrumentParts& parts,
                                     const PartialledOut& out) {
    if (parts.endogenous.size() != 1) {
        return std::nullopt;
    }
    const auto W = stageVariance(in, parts, out.excluded, errorsOf(in), leftOver(in, parts));
    if (!W || !W->allFinite() || !(W->trace() > 0.0)) {
        return std::nullopt;
    }
    Effective e;
    e.f = (out.excluded.transpose() * out.endogenous).squaredNorm() / W->trace();
    e.tenth = effectiveCritical(*W, 0.10, &e.df);
    e.thirtieth = effectiveCritical(*W, 0.30, nullptr);
    return e;
}

}  // namespace

// Durbin (1954), Review of the International Statistical Institute 22; Wu (1973), Econometrica 41;
// Hausman (1978), Econometrica 46: what the instruments leave of the terms, added to the equation.
CheckResult checkEndogeneity(const CheckInput& in) {
    const auto parts = partsOf(in, true);
    if (!parts) {
        return notApplicable(parts.error());
    }
    Design wide = sameRows(in.design);
    wide.columns = in.design.columns;
    wide.terms = in.design.terms;
    wide.y = in.design.y;
    wide.X.resize(in.design.X.rows(), in.design.X.cols() + parts->left.cols());
    wide.X << in.design.X, parts->left;
    const auto g = static_cast<Index>(parts->endogenous.size());
    for (Index j = 0; j < g; ++j) {
        wide.columns.push_back({"left of it " + std::to_string(j), "", -1, false});
    }
    const auto tested = [&](const ErrorSpec& errors) -> std::optional<FTest> {
        const auto fit = fitLeastSquares(wide, errors, in.alpha, in.job);
        if (!fit) {
            return std::nullopt;
        }
        std::vector<Index> at;
        for (std::size_t j = 0; j < fit->coefficients.size(); ++j) {
            if (fit->coefficients[j].column >= in.design.X.cols()) {
                at.push_back(static_cast<Index>(j));
            }
        }
        VectorXd b(static_cast<Index>(at.size()));
        for (std::size_t j = 0; j < at.size(); ++j) {
            b(static_cast<Index>(j)) = fit->coefficients[static_cast<std::size_t>(at[j])].estimate;
        }
        const auto f = at.size() == static_cast<std::size_t>(g) ? waldF(b, fit->covariance(at, at))
                                                                : std::nullopt;
        const auto df2 = fit->coefficients.front().df;
        return f ? std::optional(FTest{*f, static_cast<double>(g), df2.value_or(0.0),
                                       fTail(*f, static_cast<double>(g), df2)})
                 : std::nullopt;
    };
    const auto own = tested(errorsOf(in));
    const auto plain = tested(ErrorSpec{});
    if (!own || !plain) {
        return notApplicable("The instruments leave nothing of the terms that could be tested.");
    }
    // Durbin’s form: the same sum of squares against the variance of least squares.
    const auto least = fitLeastSquares(in.design, ErrorSpec{}, in.alpha, in.job);
    CheckResult result;
    result.statistic = own->value;
    result.statisticName = "Wu–Hausman F";
    result.df = {own->df1, own->df2};
    result.distribution = "F";
    result.p = own->p;
    if (least) {
        const double rss = least->statistics.rss;
        const double left = least->dfResidual - own->df1;
        const double gained = rss * plain->value * plain->df1 / (plain->value * plain->df1 + left);
        const double durbin = gained / (rss / rowsStoodFor(in.design));
        result.details = {{"Wu–Hausman F, one spread", plain->value},
                          {"Wu–Hausman p, one spread", plain->p},
                          {"Durbin chi2", durbin},
                          {"Durbin p", chiSquareTail(durbin, own->df1)}};
    }
    const bool found = own->p < in.alpha;
    const std::string names = namesOfEndogenous(in, *parts);
    result.verdict = found == byInstruments(in) ? Verdict::Fine
                     : byInstruments(in)        ? Verdict::Weigh
                                                : Verdict::Fails;
    result.headline = pClause(own->p);
    result.reading =
        found ? "Least squares and the instruments do not aim at the same effect of " + names +
                    " (" + pClause(own->p) +
                    "): if the instruments are valid, least squares is off. This question is "
                    "asked " +
                    (byInstruments(in) ? "by instruments, as it should be then."
                                       : "by least squares.")
              : "Least squares and the instruments do not differ by more than chance (" +
                    pClause(own->p) + "). That does not prove that " + names +
                    " is free of what moves the outcome: with weak instruments this test sees "
                    "little.";
    const ErrorSpec errors = errorsOf(in);
    std::vector<Way> ways;
    const Index column = parts->endogenous.front();
    for (const auto& way :
         {wayOf("least squares", fitLeastSquares(in.design, errors, in.alpha, in.job), column),
          wayOf("two-stage", fitTwoStage(in.design, {}, errors, in.alpha, in.job), column)}) {
        if (way) {
            ways.push_back(*way);
        }
    }
    result.exhibit = waysExhibit(in, *parts, ways);
    result.exhibit.title =
        found ? "Least squares and instruments part" : "Least squares and instruments agree";
    if (result.verdict == Verdict::Fails) {
        offerMethod(in, "two-stage", "Ask by instruments",
                    "two-stage least squares, with what moves the term from outside", result);
    } else if (result.verdict == Verdict::Weigh) {
        offerMethod(in, kLeastSquares, "Least squares beside it",
                    "tighter, and right if the term is free of what moves the outcome", result);
    }
    return result;
}

// Sargan (1958), Econometrica 26; Basmann (1960), JASA 55; Hansen (1982), Econometrica 50.
CheckResult checkOverIdentification(const CheckInput& in) {
    if (in.fit.dynamic) {
        return dynamicOverIdentification(in);
    }
    const auto parts = partsOf(in);
    if (!parts) {
        return notApplicable(parts.error());
    }
    const auto over = static_cast<double>(parts->excluded.size() - parts->endogenous.size());
    if (over < 1.0) {
        return notApplicable(
            "There are just as many instruments as terms they move: no instrument can be held "
            "against another. That they act through these terms alone must be argued.");
    }
    const auto stage = fitTwoStage(in.design, {}, ErrorSpec{}, in.alpha, in.job);
    if (!stage) {
        return notApplicable(stage.error().text());
    }
    const VectorXd root = in.design.weights.size() > 0 ? VectorXd(in.design.weights.cwiseSqrt())
                                                       : VectorXd::Ones(in.design.y.size());
    const VectorXd e = root.cwiseProduct(stage->residuals);
    const double explained = (instrumentBasis(in.design, *parts).transpose() * e).squaredNorm();
    const double all = e.squaredNorm();
    const double sargan = rowsStoodFor(in.design) * explained / all;
    const double basmann = leftOver(in, *parts) * explained / (all - explained);
    CheckResult result;
    result.details = {{"Sargan", sargan},
                      {"Sargan p", chiSquareTail(sargan, over)},
                      {"Basmann", basmann},
                      {"Basmann p", chiSquareTail(basmann, over)}};
    std::optional<double> j;
    if (in.fit.instrumented && in.fit.instrumented->j) {
        j = in.fit.instrumented->j;
    } else if (!classical(in)) {
        if (const auto found = hansenJ(in.design, *parts, errorsOf(in), in.job)) {
            j = *found;
        } else {
            return notApplicable(found.error().text());
        }
    }
    result.statistic = j.value_or(sargan);
    result.statisticName = j ? "Hansen J" : "Sargan n·R²";
    result.df = {over};
    result.distribution = "chi2";
    result.p = chiSquareTail(*result.statistic, over);
    result.verdict = *result.p >= in.alpha ? Verdict::Fine
                     : *result.p < 0.01    ? Verdict::Fails
                                           : Verdict::Weigh;
    result.headline = pClause(*result.p);
    result.reading =
        result.verdict == Verdict::Fine
            ? "The instruments lead to effects that agree (" + pClause(*result.p) +
                  "). Instruments that are wrong in the same way would agree, too: this is no "
                  "proof "
                  "that they act through " +
                  namesOfEndogenous(in, *parts) + " alone."
            : "The instruments lead to different effects (" + pClause(*result.p) +
                  "): at least one acts on the outcome by another way, or the effect differs "
                  "between those whom they move.";
    // Each instrument alone, where one term is moved.
    std::vector<Way> ways;
    if (parts->endogenous.size() == 1) {
        const Index column = parts->endogenous.front();
        for (std::size_t z = 0; z < std::min<std::size_t>(parts->excluded.size(), 8); ++z) {
            const Design one = withInstruments(in.design, {parts->excluded[z]});
            if (const auto way =
                    wayOf("by " + instrumentName(in, *parts, z) + " alone",
                          fitTwoStage(one, {}, errorsOf(in), in.alpha, in.job), column)) {
                ways.push_back(*way);
            }
        }
        if (const auto way = wayOf(
                "by all", fitTwoStage(in.design, {}, errorsOf(in), in.alpha, in.job), column)) {
            ways.push_back(*way);
        }
        result.exhibit = waysExhibit(in, *parts, ways);
    } else {
        result.exhibit = residualExhibit(in);
    }
    result.exhibit.title =
        result.verdict == Verdict::Fine ? "The instruments agree" : "The instruments disagree";
    if (result.verdict != Verdict::Fine) {
        const auto moments = momentsOf(in, *parts, errorsOf(in));
        if (moments && over > 1.0) {
            // Without which of them do the others agree best?
            std::size_t best = 0;
            double least = std::numeric_limits<double>::infinity();
            for (std::size_t z = 0; z < parts->excluded.size(); ++z) {
                std::vector<Index> rows;
                for (Index r = 0; r < moments->S.rows(); ++r) {
                    if (r != static_cast<Index>(parts->exogenous.size() + z)) {
                        rows.push_back(r);
                    }
                }
                const double c = criterionOf(*moments, rows);
                if (c < least) {
                    least = c;
                    best = z;
                }
            }
            offerWithoutInstrument(in, instrumentName(in, *parts, best), result);
        } else if (moments) {
            for (std::size_t z = 0; z < parts->excluded.size(); ++z) {
                offerWithoutInstrument(in, instrumentName(in, *parts, z), result);
            }
        }
    }
    return result;
}

// Eichenbaum, Hansen & Singleton (1988), Quarterly Journal of Economics 103: the criterion with
// all instruments less that without one, both by the weight of all.
CheckResult checkDifferenceJ(const CheckInput& in) {
    const auto parts = partsOf(in);
    if (!parts) {
        return notApplicable(parts.error());
    }
    if (parts->excluded.size() < parts->endogenous.size() + 2) {
        return notApplicable(
            "One instrument can be held against the rest where at least two are more than the "
            "terms they move; with one to spare all of them give the same number.");
    }
    const auto moments = momentsOf(in, *parts, errorsOf(in));
    if (!moments) {
        return notApplicable(moments.error().text());
    }
    std::vector<Index> all(static_cast<std::size_t>(moments->S.rows()));
    for (std::size_t r = 0; r < all.size(); ++r) {
        all[r] = static_cast<Index>(r);
    }
    const double whole = criterionOf(*moments, all);
    std::vector<double> differences;
    std::vector<double> ps;
    for (std::size_t z = 0; z < parts->excluded.size(); ++z) {
        std::vector<Index> rows = all;
        rows.erase(rows.begin() + static_cast<std::ptrdiff_t>(parts->exogenous.size() + z));
        differences.push_back(std::max(whole - criterionOf(*moments, rows), 0.0));
        ps.push_back(chiSquareTail(differences.back(), 1.0));
    }
    const auto worst = static_cast<std::size_t>(
        std::max_element(differences.begin(), differences.end()) - differences.begin());
    const std::vector<double> adjusted = holm(ps);
    CheckResult result;
    result.statistic = differences[worst];
    result.statisticName = "largest difference of J";
    result.df = {1.0};
    result.distribution = "chi2";
    result.p = adjusted[worst];
    for (std::size_t z = 0; z < differences.size(); ++z) {
        const std::string name = instrumentName(in, *parts, z);
        result.details.emplace_back("difference " + name, differences[z]);
        result.details.emplace_back("p " + name, ps[z]);
        result.exhibit.barNames.push_back(name);
        result.exhibit.x.push_back(differences[z]);
    }
    const std::string name = instrumentName(in, *parts, worst);
    result.verdict = *result.p >= in.alpha ? Verdict::Fine
                     : *result.p < 0.01    ? Verdict::Fails
                                           : Verdict::Weigh;
    result.headline = name + ", " + pClause(*result.p);
    result.reading = result.verdict == Verdict::Fine
                         ? "No instrument stands against the rest (the farthest is " + name + ", " +
                               pClause(*result.p) + " after " + std::to_string(differences.size()) +
                               " looks)."
                         : name + " leads elsewhere than the rest (" + pClause(*result.p) +
                               " after " + std::to_string(differences.size()) +
                               " looks). Either it acts on the outcome by another way, or the "
                               "others do.";
    result.exhibit.title =
        result.verdict == Verdict::Fine ? "No instrument stands apart" : name + " stands apart";
    result.exhibit.subtitle = "how much the criterion falls without each instrument";
    result.exhibit.xTitle = "difference of J";
    result.exhibit.lines.push_back(
        {"5 %", {chiSquareCritical(0.05, 1.0), chiSquareCritical(0.05, 1.0)}, {0.0, 1.0}, true});
    if (result.verdict != Verdict::Fine) {
        offerWithoutInstrument(in, name, result);
    }
    return result;
}

// Stock & Yogo (2005); Montiel Olea & Pflueger (2013); Shea (1997), Review of Economics and
// Statistics 79; Cragg & Donald (1993), Econometric Theory 9.
namespace {

CheckResult weakInstruments(const CheckInput& in) {
    const auto parts = partsOf(in);
    if (!parts) {
        return notApplicable(parts.error());
    }
    const PartialledOut out = partialledOut(in.design, *parts);
    const Ranks ranks = ranksOf(in, *parts, out);
    const auto effective = effectiveOf(in, *parts, out);
    const int l = static_cast<int>(parts->excluded.size());
    const int g = static_cast<int>(parts->endogenous.size());
    CheckResult result;
    result.statistic = ranks.craggDonald;
    result.statisticName = g == 1 ? "first-stage F" : "Cragg–Donald F";
    result.df = {static_cast<double>(l), leftOver(in, *parts)};
    result.details = {{"Cragg–Donald F", ranks.craggDonald}};
    if (ranks.kleibergenPaapF) {
        result.details.emplace_back("Kleibergen–Paap F", *ranks.kleibergenPaapF);
    }
    if (effective) {
        result.details.emplace_back("effective F", effective->f);
        result.details.emplace_back("effective df", effective->df);
        result.details.emplace_back("effective F, critical for .10", effective->tenth);
        result.details.emplace_back("effective F, critical for .30", effective->thirtieth);
    }
    const auto put = [&](const std::optional<WeakValues>& values, const char* what,
                         const std::array<const char*, 4>& levels) {
        for (std::size_t i = 0; values && i < 4; ++i) {
            result.details.emplace_back(std::string(what) + levels[i], values->at[i]);
        }
    };
    const auto bias = weakByBias(l, g);
    const auto size = weakBySize(l, g);
    put(bias, "bias ", {".05", ".10", ".20", ".30"});
    put(size, "size ", {".10", ".15", ".20", ".25"});
    const auto least = fitLeastSquares(in.design, ErrorSpec{}, in.alpha, in.job);
    const auto stage = fitTwoStage(in.design, {}, ErrorSpec{}, in.alpha, in.job);
    for (std::size_t j = 0; j < parts->endogenous.size(); ++j) {
        const std::string name =
            in.design.columns[static_cast<std::size_t>(parts->endogenous[j])].name;
        const VectorXd x = out.endogenous.col(static_cast<Index>(j));
        result.details.emplace_back("partial R² " + name,
                                    (out.excluded.transpose() * x).squaredNorm() / x.squaredNorm());
        if (least && stage && g > 1) {
            // Shea’s partial R²: the variance by least squares over that by two stages, each per
            // σ².
            const auto at = [&](const Fit& fit) {
                for (std::size_t c = 0; c < fit.coefficients.size(); ++c) {
                    if (fit.coefficients[c].column == parts->endogenous[j]) {
                        return fit.solution.factor.row(static_cast<Index>(c)).squaredNorm();
                    }
                }
                return std::nan("");
            };
            result.details.emplace_back("Shea R² " + name, at(*least) / at(*stage));
        }
    }
    // The number that is read, and what it is read against.
    double value = ranks.craggDonald;
    double tenth = 10.0;
    double three = 5.0;
    std::string against = "the rule of thumb of 10";
    if (effective) {
        value = effective->f;
        tenth = effective->tenth;
        three = effective->thirtieth;
        against = fixedNumber(tenth, 1) + " for a bias of a tenth of the worst case";
    } else if (bias) {
        tenth = bias->at[1];
        three = bias->at[3];
        against = fixedNumber(tenth, 1) + " for a tenth of the bias of least squares";
    } else if (size) {
        tenth = size->at[1];
        three = size->at[3];
        against = fixedNumber(tenth, 1) + " for a 5 % test that rejects 15 % of the time";
    }
    result.verdict = value >= tenth  ? Verdict::Fine
                     : value < three ? Verdict::Fails
                                     : Verdict::Weigh;
    result.headline = "F " + fixedNumber(value, 1) + ", " + fixedNumber(tenth, 1) + " wanted";
    const std::string what = effective && !classical(in) ? "effective F" : result.statisticName;
    result.reading =
        "How far the instruments move " + namesOfEndogenous(in, *parts) + ": " + what + " " +
        fixedNumber(value, 1) + ", against " + against + ". " +
        (result.verdict == Verdict::Fine ? "They are strong enough for the usual intervals."
         : likelihoodByInstruments(in)
             ? std::string("The estimates then lean towards those without instruments, and their "
                           "intervals are too narrow: ask by two-stage least squares beside it, "
                           "where the Anderson–Rubin set holds whatever the strength.")
             : std::string(
                   "Two-stage estimates then lean towards least squares, and their intervals are "
                   "too narrow: trust the Anderson–Rubin set, which holds whatever the strength."));
    if (size && classical(in) && !likelihoodByInstruments(in)) {
        const auto levels = std::array<const char*, 4>{"10", "15", "20", "25"};
        std::string true5;
        for (std::size_t i = 0; i < 4 && true5.empty(); ++i) {
            true5 = ranks.craggDonald >= size->at[i]
                        ? std::string("A 5 % test rejects a true hypothesis at most ") + levels[i] +
                              " % of the time by Stock & Yogo’s table."
                        : "";
        }
        result.reading +=
            " " + (true5.empty() ? "A 5 % test may reject a true hypothesis more than "
                                   "a quarter of the time by Stock & Yogo’s table."
                                 : true5);
    }
    result.exhibit = stageExhibit(in, *parts);
    result.exhibit.title = result.verdict == Verdict::Fine ? "The instruments move the term"
                                                           : "The instruments move the term little";
    if (result.verdict != Verdict::Fine && likelihoodByInstruments(in)) {
        offerMethod(in, "two-stage", "Two-stage least squares beside it",
                    "with a set of effects that holds whatever the strength", result);
    } else if (result.verdict != Verdict::Fine) {
        offerMethod(in, "liml", "Limited information likelihood",
                    "less drawn to least squares where instruments are weak", result);
        offerMethod(in, "fuller", "Fuller’s estimator", "like it, with moments that exist", result);
    }
    return result;
}

}  // namespace

CheckResult checkWeakInstruments(const CheckInput& in) { return onOwnColumns(in, weakInstruments); }

namespace {

CheckResult underIdentification(const CheckInput& in) {
    const auto parts = partsOf(in);
    if (!parts) {
        return notApplicable(parts.error());
    }
    const PartialledOut out = partialledOut(in.design, *parts);
    const Ranks ranks = ranksOf(in, *parts, out);
    const double df = static_cast<double>(parts->excluded.size() - parts->endogenous.size() + 1);
    CheckResult result;
    result.statistic = ranks.kleibergenPaap.value_or(ranks.anderson);
    result.statisticName =
        ranks.kleibergenPaap ? "Kleibergen–Paap rank, chi-square" : "canonical correlation, n·r²";
    result.df = {df};
    result.distribution = "chi2";
    result.p = chiSquareTail(*result.statistic, df);
    result.details = {{"Anderson", ranks.anderson},
                      {"Anderson p", chiSquareTail(ranks.anderson, df)}};
    if (ranks.kleibergenPaap) {
        result.details.emplace_back("Kleibergen–Paap", *ranks.kleibergenPaap);
        result.details.emplace_back("Kleibergen–Paap p", *result.p);
    }
    result.verdict = *result.p < in.alpha ? Verdict::Fine : Verdict::Fails;
    result.headline = pClause(*result.p);
    const std::string names = namesOfEndogenous(in, *parts);
    result.reading =
        result.verdict == Verdict::Fine
            ? "The instruments move " + names +
                  (parts->endogenous.size() > 1 ? " each in a way of its own" : "") + " (" +
                  pClause(*result.p) +
                  "): there is an effect to be found. Whether they move it enough is another "
                  "question."
            : "It cannot be told from chance that the instruments move " + names +
                  (parts->endogenous.size() > 1 ? " each in a way of its own" : " at all") + " (" +
                  pClause(*result.p) + "): the estimate may stand for nothing.";
    result.exhibit = stageExhibit(in, *parts);
    result.exhibit.title = result.verdict == Verdict::Fine ? "The instruments move the term"
                                                           : "The instruments hardly move the term";
    if (result.verdict != Verdict::Fine) {
        offerMethod(in, kLeastSquares, "Least squares beside it",
                    "what the data say where no instrument helps", result);
    }
    return result;
}

}  // namespace

// Anderson (1951), Annals of Mathematical Statistics 22; Kleibergen & Paap (2006).
CheckResult checkUnderIdentification(const CheckInput& in) {
    return onOwnColumns(in, underIdentification);
}

namespace {

/// F of the instruments in y − b·x for every b, by the quadratic its parts make.
class AndersonRubin {
  public:
    static std::optional<AndersonRubin> make(const CheckInput& in, const InstrumentParts& parts) {
        AndersonRubin out;
        Design first = sameRows(in.design);
        first.X = parts.W.matrix();
        first.columns = parts.columns;
        const VectorXd x = in.design.X.col(parts.endogenous.front());
        const auto run = [&](const VectorXd& y, VectorXd& b, MatrixXd& V) {
            first.y = y;
            const auto fit = fitLeastSquares(first, errorsOf(in), in.alpha, in.job);
            if (!fit || fit->coefficients.size() != parts.columns.size()) {
                return false;
            }
            const auto l = static_cast<Index>(parts.excluded.size());
            b.resize(l);
            for (Index j = 0; j < l; ++j) {
                b(j) = fit->coefficients[parts.exogenous.size() + static_cast<std::size_t>(j)]
                           .estimate;
            }
            V = fit->covariance.bottomRightCorner(l, l);
            out.df2_ = fit->coefficients.front().df;
            return true;
        };
        VectorXd sum;
        MatrixXd both;
        // Both of one size in the sum, so that neither loses its digits beside the other; a power
        // of two changes none.
        const double sizes = in.design.y.stableNorm() / x.stableNorm();
        const double by = std::isnormal(sizes) ? std::exp2(std::round(std::log2(sizes))) : 1.0;
        if (!run(in.design.y, out.a_, out.Vaa_) || !run(x, out.c_, out.Vcc_) ||
            !run(in.design.y + by * x, sum, both)) {
            return std::nullopt;
        }
        out.Vac_ = 0.5 * (both - out.Vaa_ - by * by * out.Vcc_) / by;
        out.df1_ = static_cast<double>(parts.excluded.size());
        return out;
    }

    [[nodiscard]] double f(double b) const {
        const MatrixXd V = Vaa_ - 2.0 * b * Vac_ + b * b * Vcc_;
        const VectorXd g = a_ - b * c_;
        return waldF(g, V).value_or(0.0);
    }

    /// As b goes to either end.
    [[nodiscard]] double far() const { return waldF(c_, Vcc_).value_or(0.0); }

    [[nodiscard]] double df1() const { return df1_; }

    [[nodiscard]] std::optional<double> df2() const { return df2_; }

    [[nodiscard]] double p(double b) const { return fTail(f(b), df1_, df2_); }

    [[nodiscard]] double critical(double alpha) const {
        return df2_ ? fCritical(alpha, df1_, *df2_) : chiSquareCritical(alpha, df1_) / df1_;
    }

  private:
    VectorXd a_;
    VectorXd c_;
    MatrixXd Vaa_;
    MatrixXd Vcc_;
    MatrixXd Vac_;
    double df1_ = 1.0;
    std::optional<double> df2_;
};

/// A stretch of the set; infinite where it has no end.
struct Piece {
    double low;
    double high;
};

/// Where f stays under the critical value: looked for on a line bent so that both ends are near
/// (b = centre + width·tan), ends by bisection.
std::vector<Piece> acceptedPieces(const AndersonRubin& ar, double critical, double centre,
                                  double width) {
    constexpr int kPlaces = 4000;
    constexpr double kInfinite = std::numeric_limits<double>::infinity();
    const auto at = [&](int i) {
        return centre + width * std::tan(std::numbers::pi * ((i + 0.5) / kPlaces - 0.5));
    };
    const bool endsIn = ar.far() <= critical;
    std::vector<Piece> pieces;
    bool inside = endsIn;
    double from = -kInfinite;
    for (int i = 0; i < kPlaces; ++i) {
        const bool now = ar.f(at(i)) <= critical;
        if (now == inside) {
            continue;
        }
        double low = i == 0 ? at(0) - 100.0 * std::abs(at(0) - at(1)) : at(i - 1);
        double high = at(i);
        for (int step = 0; step < 200 && high - low > 1e-13 * (std::abs(low) + std::abs(high));
             ++step) {
            const double middle = 0.5 * (low + high);
            ((ar.f(middle) <= critical) == inside ? low : high) = middle;
        }
        const double edge = 0.5 * (low + high);
        if (inside) {
            pieces.push_back({from, edge});
        } else {
            from = edge;
        }
        inside = now;
    }
    if (inside) {
        pieces.push_back({from, kInfinite});
    }
    return pieces;
}

std::string pieceText(const Piece& piece) {
    const auto end = [](double v) { return shortNumber(v, 4); };
    return std::isinf(piece.low) && std::isinf(piece.high) ? std::string("every value")
           : std::isinf(piece.low)                         ? "all up to " + end(piece.high)
           : std::isinf(piece.high)                        ? "all from " + end(piece.low) + " on"
                                    : end(piece.low) + " to " + end(piece.high);
}

}  // namespace

// Anderson & Rubin (1949), Annals of Mathematical Statistics 20: the effects under which the
// instruments say nothing about what is left of the outcome.
CheckResult checkAndersonRubin(const CheckInput& in) {
    const auto parts = partsOf(in);
    if (!parts) {
        return notApplicable(parts.error());
    }
    const auto ar = AndersonRubin::make(in, *parts);
    if (!ar) {
        return notApplicable("The instruments have no regression of their own here.");
    }
    CheckResult result;
    result.statistic = ar->f(0.0);
    result.statisticName = "Anderson–Rubin F of no effect";
    result.df = {ar->df1()};
    if (ar->df2()) {
        result.df.push_back(*ar->df2());
    }
    result.distribution = "F";
    result.p = ar->p(0.0);
    const std::string names = namesOfEndogenous(in, *parts);
    const std::string none = "That there is no effect of " + names + " has " + pClause(*result.p) +
                             ", whatever the strength of the instruments.";
    if (parts->endogenous.size() > 1) {
        result.verdict = Verdict::Fine;
        result.headline = pClause(*result.p);
        result.reading = none + " A set for each of several terms by itself is not told.";
        result.exhibit = stageExhibit(in, *parts);
        result.exhibit.title = "How far the instruments move the first term";
        return result;
    }
    const auto own = fitTwoStage(in.design, {}, errorsOf(in), in.alpha, in.job);
    const auto way = wayOf("two-stage", own, parts->endogenous.front());
    if (!way) {
        return notApplicable("Two stages have no estimate here.");
    }
    const double critical = ar->critical(in.alpha);
    const double width = std::max((way->high - way->low) / 2.0, 1e-300);
    const auto pieces = acceptedPieces(*ar, critical, way->estimate, width);
    result.details = {{"pieces", static_cast<double>(pieces.size())}, {"critical F", critical}};
    if (!pieces.empty() && std::isfinite(pieces.front().low)) {
        result.details.emplace_back("low", pieces.front().low);
    }
    if (!pieces.empty() && std::isfinite(pieces.back().high)) {
        result.details.emplace_back("high", pieces.back().high);
    }
    const std::string level = shortNumber(100.0 * (1.0 - in.alpha)) + " %";
    const bool bounded = pieces.size() == 1 && std::isfinite(pieces.front().low) &&
                         std::isfinite(pieces.front().high);
    std::string all;
    for (const Piece& piece : pieces) {
        all += (all.empty() ? "" : ", and ") + pieceText(piece);
    }
    const bool wayZero = way->low <= 0.0 && way->high >= 0.0;
    const bool setZero = *result.p >= in.alpha;
    result.verdict = pieces.empty()                  ? Verdict::Fails
                     : bounded && wayZero == setZero ? Verdict::Fine
                                                     : Verdict::Weigh;
    result.headline = pieces.empty() ? std::string("no effect fits")
                      : bounded      ? pieceText(pieces.front())
                                     : std::string("no end on a side");
    result.reading =
        pieces.empty()
            ? "No effect of " + names +
                  " at all is compatible with the instruments: they contradict each other, which "
                  "the check of instruments against each other shows, too."
            : "Effects of " + names + " that the data allow at " + level + ": **" + all + "**. " +
                  none +
                  (bounded
                       ? ""
                       : " A set without an end is an honest answer: the instruments do not say "
                         "enough.") +
                  (bounded && wayZero != setZero
                       ? " The interval of two stages says another thing of zero: trust this set."
                       : "");
    Exhibit& e = result.exhibit;
    e.title =
        bounded ? "The effects that the data allow" : "The effects that the data do not exclude";
    e.subtitle = "p of each effect of " + names + " by Anderson & Rubin";
    e.xTitle = "effect of " + names;
    e.yTitle = "p";
    const double reach =
        bounded ? std::max(pieces.front().high - way->estimate, way->estimate - pieces.front().low)
                : 3.0 * width;
    Exhibit::Line line;
    for (int i = 0; i <= 400; ++i) {
        const double b = way->estimate + 1.6 * reach * (i / 200.0 - 1.0);
        line.x.push_back(b);
        line.y.push_back(ar->p(b));
    }
    e.lines.push_back({"alpha", {line.x.front(), line.x.back()}, {in.alpha, in.alpha}, true});
    e.lines.push_back(std::move(line));
    e.fromZero = true;
    if (result.verdict != Verdict::Fine) {
        offerMethod(in, "liml", "Limited information likelihood",
                    "under one spread its estimate lies in this set wherever the set holds a value",
                    result);
    }
    return result;
}

}  // namespace rapporto
