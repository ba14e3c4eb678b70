#include "core/model/term_choice.h"

#include "core/base/format.h"
#include "core/expression/expression.h"

#include <algorithm>
#include <cmath>
#include <numbers>
#include <set>

namespace rapporto {
namespace {

using Eigen::Index;
using Eigen::MatrixXd;
using Eigen::VectorXd;

constexpr std::size_t kMostTerms = 30;
constexpr double kInfinite = std::numeric_limits<double>::infinity();

double weightedSquares(const VectorXd& x, const VectorXd& w, bool centred) {
    const double total = w.size() > 0 ? w.sum() : static_cast<double>(x.size());
    const double sum = w.size() > 0 ? x.dot(w) : x.sum();
    const double mean = centred ? sum / total : 0.0;
    const VectorXd d = x.array() - mean;
    return w.size() > 0 ? d.cwiseAbs2().dot(w) : d.squaredNorm();
}

/// Branch and bound over what may be dropped from all terms.
class SubsetTree {
  public:
    struct Kept {
        double rss = 0.0;
        std::vector<std::size_t> terms;  ///< Of the design, ascending.
    };

    SubsetTree(const Design& design, const LinearSolution& full, const std::vector<bool>& held,
               std::size_t perSize, const Job& job)
        : perSize_(perSize), job_(job) {
        const std::size_t T = design.terms.size();
        columns_.resize(T);
        for (std::size_t j = 0; j < full.kept.size(); ++j) {
            const int term = design.columns[static_cast<std::size_t>(full.kept[j])].term;
            if (term >= 0) {
                columns_[static_cast<std::size_t>(term)].push_back(static_cast<Index>(j));
            }
        }
        const MatrixXd inverse = full.factor * full.factor.transpose();
        std::vector<std::pair<double, std::size_t>> losses;
        const auto parts = termParts(design);
        for (std::size_t t = 0; t < T; ++t) {
            if (columns_[t].empty()) {
                continue;
            }
            if (held[t]) {
                always_.push_back(t);
                continue;
            }
            const auto& own = columns_[t];
            const VectorXd b = full.coefficients(own);
            losses.emplace_back(-b.dot(MatrixXd(inverse(own, own)).ldlt().solve(b)), t);
        }
        // What costs most to drop comes first: its branch is the widest, and soonest cut off.
        std::sort(losses.begin(), losses.end());
        for (const auto& [loss, t] : losses) {
            free_.push_back(t);
        }
        needs_.resize(T);
        for (std::size_t t = 0; t < T; ++t) {
            for (const std::size_t part : parts[t]) {
                if (!columns_[t].empty()) {
                    needs_[t].push_back(part);
                }
            }
        }
        in_.assign(T, false);
        for (std::size_t t = 0; t < T; ++t) {
            in_[t] = !columns_[t].empty();
        }
        best_.resize(full.kept.size() + 1);
        const std::size_t depth = free_.size() + 1;
        inverses_.resize(depth, inverse);
        betas_.resize(depth, full.coefficients);
        record(full.kept.size(), full.residualSquares);
        descend(0, 0, full.kept.size(), full.residualSquares);
    }

    [[nodiscard]] bool stopped() const { return job_.stopped(); }

    [[nodiscard]] std::size_t tried() const { return tried_; }

    [[nodiscard]] const std::vector<std::size_t>& free() const { return free_; }

    /// By the number of coefficients.
    [[nodiscard]] const std::vector<std::vector<Kept>>& best() const { return best_; }

  private:
    /// A product or power without its parts is no model that people mean.
    [[nodiscard]] bool isWhole() const {
        for (std::size_t t = 0; t < in_.size(); ++t) {
            if (in_[t] && std::any_of(needs_[t].begin(), needs_[t].end(),
                                      [&](std::size_t part) { return !in_[part]; })) {
                return false;
            }
        }
        return true;
    }

    void record(std::size_t coefficients, double rss) {
        ++tried_;
        if (!isWhole()) {
            return;
        }
        auto& list = best_[coefficients];
        if (list.size() == perSize_ && rss >= list.back().rss) {
            return;
        }
        Kept one{rss, {}};
        for (std::size_t t = 0; t < in_.size(); ++t) {
            if (in_[t]) {
                one.terms.push_back(t);
            }
        }
        list.insert(std::upper_bound(list.begin(), list.end(), rss,
                                     [](double v, const Kept& k) { return v < k.rss; }),
                    std::move(one));
        if (list.size() > perSize_) {
            list.pop_back();
        }
    }

    /// Nothing under here could enter any list: all subsets leave at least `rss`.
    [[nodiscard]] bool hopeless(std::size_t from, std::size_t coefficients, double rss) const {
        std::size_t least = coefficients;
        for (std::size_t i = from; i < free_.size(); ++i) {
            least -= columns_[free_[i]].size();
        }
        for (std::size_t k = least; k < coefficients; ++k) {
            if (best_[k].size() < perSize_ || rss < best_[k].back().rss) {
                return false;
            }
        }
        return true;
    }

    /// Columns gone from the inverse are zero there, so that positions stay.
    void descend(std::size_t depth, std::size_t from, std::size_t coefficients, double rss) {
        if (job_.stopped() || hopeless(from, coefficients, rss)) {
            return;
        }
        // The last ones first: their branches are narrow and set the bounds.
        for (std::size_t i = free_.size(); i-- > from;) {
            const std::size_t t = free_[i];
            // A product before it in the order can no longer go.
            const bool broken =
                std::any_of(free_.begin(), free_.begin() + static_cast<std::ptrdiff_t>(i),
                            [&](std::size_t p) {
                                return in_[p] && std::find(needs_[p].begin(), needs_[p].end(), t) !=
                                                     needs_[p].end();
                            }) ||
                std::any_of(always_.begin(), always_.end(), [&](std::size_t p) {
                    return std::find(needs_[p].begin(), needs_[p].end(), t) != needs_[p].end();
                });
            if (broken) {
                continue;
            }
            const auto& own = columns_[t];
            const MatrixXd& inverse = inverses_[depth];
            const VectorXd& beta = betas_[depth];
            const Eigen::LDLT<MatrixXd> block(MatrixXd(inverse(own, own)));
            const VectorXd pull = block.solve(VectorXd(beta(own)));
            const double next = rss + beta(own).dot(pull);
            const std::size_t left = coefficients - own.size();
            in_[t] = false;
            record(left, next);
            if (i + 1 < free_.size() && !hopeless(i + 1, left, next)) {
                const MatrixXd across = inverse(Eigen::all, own);
                betas_[depth + 1] = beta - across * pull;
                inverses_[depth + 1].noalias() = inverse - across * block.solve(across.transpose());
                descend(depth + 1, i + 1, left, next);
            }
            in_[t] = true;
        }
    }

    std::size_t perSize_;
    const Job& job_;
    std::vector<std::vector<Index>> columns_;  ///< Positions among the kept ones, by term.
    std::vector<std::size_t> free_;
    std::vector<std::size_t> always_;
    std::vector<std::vector<std::size_t>> needs_;
    std::vector<bool> in_;
    std::vector<std::vector<Kept>> best_;
    std::vector<MatrixXd> inverses_;  ///< One a depth.
    std::vector<VectorXd> betas_;
    std::size_t tried_ = 0;
};

/// The subset refitted on the rows, with every criterion.
Result<TermSubset> measured(const Design& design, std::vector<std::size_t> terms, double fullSigma2,
                            bool leaveOut, const Job& job) {
    TermSubset out;
    out.terms = std::move(terms);
    std::vector<Index> columns;
    for (std::size_t c = 0; c < design.columns.size(); ++c) {
        const int term = design.columns[c].term;
        if (term < 0 || std::binary_search(out.terms.begin(), out.terms.end(),
                                           static_cast<std::size_t>(term))) {
            columns.push_back(static_cast<Index>(c));
        }
    }
    const double n = rowsStoodFor(design);
    double k = 0.0;
    if (columns.empty()) {
        out.rss = weightedSquares(design.y, design.weights, false);
        out.leaveOneOut = std::sqrt(out.rss / n);
    } else {
        const MatrixXd X = design.X(Eigen::all, columns);
        const LinearProblem problem{X, design.y, design.weights, design.hasConstant};
        const auto solved = solveLinear(problem, false, job);
        if (!solved) {
            return tl::make_unexpected(solved.error());
        }
        out.rss = solved->residualSquares;
        k = static_cast<double>(solved->kept.size());
        if (leaveOut) {
            const VectorXd h = leverages(problem, *solved);
            double sum = 0.0;
            double total = 0.0;
            bool free = true;
            for (Index i = 0; i < h.size(); ++i) {
                const double w = design.weights.size() > 0 ? design.weights(i) : 1.0;
                const double own = design.weightKind == WeightKind::Frequency ? h(i) / w : h(i);
                free = free && own < 1.0 - 1e-10;
                const double e = solved->residuals(i) / (1.0 - own);
                sum += w * e * e;
                total += w;
            }
            if (free) {
                out.leaveOneOut = std::sqrt(sum / total);
            }
        }
    }
    out.coefficients = k;
    const double tss = weightedSquares(design.y, design.weights, design.hasConstant);
    const double dfTotal = n - (design.hasConstant ? 1.0 : 0.0);
    out.adjustedRSquared = 1.0 - (out.rss / (n - k)) / (tss / dfTotal);
    out.mallowsCp = out.rss / fullSigma2 - n + 2.0 * k;
    if (design.weightKind != WeightKind::Sampling && out.rss > 0.0) {
        const double logWeights =
            design.weightKind == WeightKind::Precision ? design.weights.array().log().sum() : 0.0;
        const double minusTwice =
            n * (std::log(2.0 * std::numbers::pi * out.rss / n) + 1.0) - logWeights;
        const double p = k + 1.0;
        out.aic = minusTwice + 2.0 * p;
        out.bic = minusTwice + p * std::log(n);
        if (n - p - 1.0 > 0.0) {
            out.aicc = *out.aic + 2.0 * p * (p + 1.0) / (n - p - 1.0);
        }
    }
    return out;
}

}  // namespace

const std::vector<CriterionName>& allCriteria() {
    static const std::vector<CriterionName> kAll = {
        {Criterion::Bic, "bic", "BIC"},
        {Criterion::Aic, "aic", "AIC"},
        {Criterion::Aicc, "aicc", "AICc"},
        {Criterion::MallowsCp, "cp", "Mallows’ Cp"},
        {Criterion::AdjustedRSquared, "adjusted-r-squared", "adjusted R²"},
        {Criterion::LeaveOneOut, "leave-one-out", "leave-one-out error"}};
    return kAll;
}

double TermSubset::value(Criterion by) const {
    switch (by) {
        case Criterion::Bic:
            return bic.value_or(kInfinite);
        case Criterion::Aic:
            return aic.value_or(kInfinite);
        case Criterion::Aicc:
            return aicc.value_or(kInfinite);
        case Criterion::MallowsCp:
            return mallowsCp.value_or(kInfinite);
        case Criterion::AdjustedRSquared:
            return -adjustedRSquared;
        case Criterion::LeaveOneOut:
            return leaveOneOut.value_or(kInfinite);
    }
    return kInfinite;
}

const TermSubset* SubsetSearch::best(Criterion by) const {
    const TermSubset* found = nullptr;
    for (const TermSubset& one : subsets) {
        if (std::isfinite(one.value(by)) &&
            (found == nullptr || one.value(by) < found->value(by))) {
            found = &one;
        }
    }
    return found;
}

std::vector<std::vector<std::size_t>> termParts(const Design& design) {
    std::vector<std::vector<std::size_t>> parts(design.terms.size());
    const auto indexOf = [&](const std::string& name) {
        const auto at = std::find_if(design.terms.begin(), design.terms.end(),
                                     [&](const DesignTerm& t) { return t.name == name; });
        return static_cast<std::size_t>(at - design.terms.begin());
    };
    for (std::size_t t = 0; t < design.terms.size(); ++t) {
        const DesignTerm& term = design.terms[t];
        std::set<std::size_t> found;
        if (term.isProduct) {
            for (const DesignFactor& factor : term.factors) {
                const auto parsed = Expression::parse(factor.text);
                found.insert(indexOf(parsed ? parsed->canonical() : factor.text));
            }
        } else if (const auto parsed = Expression::parse(term.name);
                   parsed && !parsed->isName() && parsed->names().size() == 1 &&
                   term.name.starts_with("power(")) {
            // A lower power, too, is part of a higher one.
            const std::string of = *parsed->names().begin();
            found.insert(indexOf(of));
            for (std::size_t o = 0; o < design.terms.size(); ++o) {
                const std::string& other = design.terms[o].name;
                if (o != t && other.starts_with("power(" + of + ", ") && other < term.name &&
                    other.size() == term.name.size()) {
                    found.insert(o);
                }
            }
        }
        for (const std::size_t part : found) {
            if (part < design.terms.size() && part != t) {
                parts[t].push_back(part);
            }
        }
    }
    return parts;
}

namespace {

/// In the order of the design’s terms.
std::vector<Term> opened(const Question& question, const std::vector<TermSet>& sets) {
    std::vector<Term> out;
    for (const Term& term : question.terms) {
        if (term.muted) {
            continue;
        }
        if (term.kind != Term::Kind::Set) {
            out.push_back(term);
            continue;
        }
        for (const TermSet& set : sets) {
            if (set.name == term.parts.front()) {
                for (const std::string& member : set.members) {
                    out.push_back(Term::expression(member));
                }
            }
        }
    }
    return out;
}

}  // namespace

std::vector<std::string> openedTerms(const Question& question, const std::vector<TermSet>& sets) {
    std::vector<std::string> out;
    for (const Term& term : opened(question, sets)) {
        out.push_back(term.shown());
    }
    return out;
}

Question withTerms(const Question& question, const std::vector<TermSet>& sets,
                   const std::vector<std::size_t>& terms, const std::optional<TermChoice>& chosen,
                   std::string title) {
    Question q = question;
    q.id.clear();
    q.lead = false;
    q.variantOf = question.variantOf.empty() ? question.id : question.variantOf;
    q.title = std::move(title);
    if (chosen) {
        q.chosen = chosen;
    }
    const std::vector<Term> all = opened(question, sets);
    q.terms.clear();
    for (const std::size_t t : terms) {
        if (t < all.size()) {
            q.terms.push_back(all[t]);
        }
    }
    return q;
}

Result<SubsetSearch> searchSubsets(const Design& design, const std::vector<bool>& held,
                                   std::size_t perSize, const Job& job) {
    const auto full =
        solveLinear({design.X, design.y, design.weights, design.hasConstant}, false, job);
    if (!full) {
        return tl::make_unexpected(full.error());
    }
    const double n = rowsStoodFor(design);
    const double left = n - static_cast<double>(full->kept.size());
    if (left < 1.0) {
        return refuse(ErrorCode::TooFewRows, "there are as many coefficients as rows", "",
                      "The lasso beside can choose among so many.");
    }
    const auto free = static_cast<std::size_t>(std::count(held.begin(), held.end(), false));
    if (free == 0) {
        return refuse(ErrorCode::BadSetting, "there is no term to choose", "",
                      "Let go of a term that is held.");
    }
    if (free > kMostTerms) {
        return refuse(ErrorCode::BadSetting,
                      "all subsets of " + countText(free) + " terms are too many", "",
                      "Hold some of them, to leave 30 or fewer, or take the lasso.");
    }
    const SubsetTree tree(design, *full, held, perSize, job);
    if (tree.stopped()) {
        return refuse(ErrorCode::Stopped, "the search was stopped", "",
                      "Change anything to start it again.");
    }
    SubsetSearch out;
    out.tried = tree.tried();
    out.possible = std::ldexp(1.0, static_cast<int>(tree.free().size()));
    const double sigma2 = full->residualSquares / left;
    const bool many = n * static_cast<double>(full->kept.size()) > 2e6;
    for (const auto& size : tree.best()) {
        for (std::size_t i = 0; i < size.size(); ++i) {
            if (i > 0 && many) {
                break;
            }
            auto one = measured(design, size[i].terms, sigma2, true, job);
            if (!one) {
                return tl::make_unexpected(one.error());
            }
            out.subsets.push_back(*std::move(one));
        }
    }
    if (!full->redundant.empty()) {
        out.notes.emplace_back(
            "Columns that others make up are left out of the search, as in the fit.");
    }
    return out;
}

std::vector<OverlapStep> overlapSteps(const Design& design, const Fit& fit, double bound) {
    std::vector<std::vector<Index>> columns(design.terms.size());
    for (std::size_t j = 0; j < fit.coefficients.size(); ++j) {
        if (fit.coefficients[j].designTerm >= 0) {
            columns[static_cast<std::size_t>(fit.coefficients[j].designTerm)].push_back(
                static_cast<Index>(j));
        }
    }
    const auto parts = termParts(design);
    std::vector<bool> alone(design.terms.size(), true);
    for (std::size_t t = 0; t < parts.size(); ++t) {
        for (const std::size_t p : parts[t]) {
            alone[t] = false;
            alone[p] = false;
        }
    }
    MatrixXd inverse = fit.solution.factor * fit.solution.factor.transpose();
    std::vector<bool> in(design.terms.size());
    for (std::size_t t = 0; t < in.size(); ++t) {
        in[t] = !columns[t].empty();
    }
    // det of the own block of the cross products times det of the own block of their inverse.
    const auto inflation = [&](std::size_t t) {
        const auto& own = columns[t];
        MatrixXd block(own.size(), own.size());
        for (std::size_t a = 0; a < own.size(); ++a) {
            for (std::size_t b = 0; b < own.size(); ++b) {
                const Index i = fit.coefficients[static_cast<std::size_t>(own[a])].column;
                const Index j = fit.coefficients[static_cast<std::size_t>(own[b])].column;
                VectorXd x = design.X.col(i);
                VectorXd z = design.X.col(j);
                const VectorXd& w = design.weights;
                const double total = w.size() > 0 ? w.sum() : static_cast<double>(x.size());
                if (design.hasConstant) {
                    x.array() -= (w.size() > 0 ? x.dot(w) : x.sum()) / total;
                    z.array() -= (w.size() > 0 ? z.dot(w) : z.sum()) / total;
                }
                block(static_cast<Index>(a), static_cast<Index>(b)) =
                    w.size() > 0 ? x.cwiseProduct(w).dot(z) : x.dot(z);
            }
        }
        const VectorXd d = block.ldlt().vectorD();
        const VectorXd i = MatrixXd(inverse(own, own)).ldlt().vectorD();
        if (d.minCoeff() <= 0.0 || i.minCoeff() <= 0.0) {
            return 0.0;
        }
        return std::exp((d.array().log().sum() + i.array().log().sum()) /
                        static_cast<double>(own.size()));
    };
    std::vector<OverlapStep> out;
    while (true) {
        std::size_t worst = in.size();
        double most = 0.0;
        for (std::size_t t = 0; t < in.size(); ++t) {
            if (in[t] && alone[t]) {
                const double value = inflation(t);
                if (value > most) {
                    most = value;
                    worst = t;
                }
            }
        }
        if (!out.empty()) {
            out.back().left = most;
        }
        if (worst == in.size() || most < bound) {
            return out;
        }
        out.push_back({worst, most, 0.0});
        in[worst] = false;
        const auto& own = columns[worst];
        const MatrixXd across = inverse(Eigen::all, own);
        const MatrixXd block = inverse(own, own);
        inverse -= across * block.ldlt().solve(across.transpose());
    }
}

}  // namespace rapporto
