#include "core/study/shape_trials.h"

#include "core/base/format.h"
#include "core/describe/summary.h"
#include "core/model/outcome_models.h"
#include "core/model/scenario.h"

#include <fmt/format.h>

#include <algorithm>
#include <array>
#include <cmath>
#include <limits>

namespace rapporto {
namespace {

using Eigen::Index;
using Eigen::VectorXd;

constexpr int kPlaces = 121;
constexpr Index kMostRows = 20000;
constexpr Index kSmears = 200;

/// A rung of the ladder: z = sign(p) y^p keeps the order of values; 0 stands for the logarithm.
struct Rung {
    double power;
    const char* label;
    const char* expression;

    [[nodiscard]] std::string of(const std::string& name) const {
        return fmt::format(fmt::runtime(expression), name);
    }

    /// y of z; absent where no y has that z.
    [[nodiscard]] std::optional<double> back(double z) const {
        if (power == 0.0) {
            return std::exp(z);
        }
        if (power == 1.0) {
            return z;
        }
        if (power < 0.0) {
            return z < 0.0 ? std::optional(std::pow(-z, 1.0 / power)) : std::nullopt;
        }
        if (power == 3.0) {
            return std::cbrt(z);
        }
        // Beyond the end of the scale lies its end.
        return z > 0.0 ? std::pow(z, 1.0 / power) : 0.0;
    }

    [[nodiscard]] double logSlope(double y) const {
        return power == 0.0   ? -std::log(y)
               : power == 1.0 ? 0.0
                              : std::log(std::abs(power)) + (power - 1.0) * std::log(std::abs(y));
    }
};

const std::array<Rung, 8>& ladder() {
    static const std::array<Rung, 8> kLadder = {{{-2.0, "−1/{}²", "-1 / power({}, 2)"},
                                                 {-1.0, "−1/{}", "-1 / {}"},
                                                 {-0.5, "−1/√{}", "-1 / sqrt({})"},
                                                 {0.0, "ln {}", "ln({})"},
                                                 {0.5, "√{}", "sqrt({})"},
                                                 {1.0, "{} as it is", "{}"},
                                                 {2.0, "{}²", "power({}, 2)"},
                                                 {3.0, "{}³", "power({}, 3)"}}};
    return kLadder;
}

/// The outcome as a rung over one variable.
struct OwnOutcome {
    std::string variable;  ///< Empty: it is what it is.
    const Rung* rung = &ladder()[5];
};

OwnOutcome ownOutcome(const Frame& frame, const std::string& outcome) {
    std::string text = outcome;
    if (const Variable* v = frame.variable(outcome); v != nullptr && !v->expression.empty()) {
        text = v->expression;
    }
    const auto parsed = Expression::parse(text);
    if (!parsed || parsed->names().size() != 1) {
        return {};
    }
    const std::string name = *parsed->names().begin();
    for (const Rung& rung : ladder()) {
        if (canonicalText(rung.of(quotedName(name))) == parsed->canonical()) {
            return {name, &rung};
        }
    }
    return {};
}

/// A proposed way to write the variable into the question.
struct Proposal {
    std::string label;
    std::vector<std::string> terms;  ///< In place of its own; of the outcome: one.
    const Rung* rung = nullptr;      ///< Of the outcome.
};

std::string shifted(const std::string& name, double knot) {
    const std::string base =
        knot == 0.0 ? name : name + (knot > 0.0 ? " - " : " + ") + exactNumber(std::abs(knot));
    return "power(greatest(" + base + ", 0), 3)";
}

/// x and the restricted cubic pieces between the knots: straight beyond the outer ones.
std::vector<std::string> splineTerms(const std::string& name, const std::vector<double>& t) {
    std::vector<std::string> out = {name};
    const std::size_t k = t.size();
    const double last = t[k - 1] - t[k - 2];
    const double unit = (t[k - 1] - t[0]) * (t[k - 1] - t[0]);
    for (std::size_t j = 0; j + 2 < k; ++j) {
        out.push_back(fmt::format("({} - {} * {} + {} * {}) / {}", shifted(name, t[j]),
                                  exactNumber((t[k - 1] - t[j]) / last), shifted(name, t[k - 2]),
                                  exactNumber((t[k - 2] - t[j]) / last), shifted(name, t[k - 1]),
                                  exactNumber(unit)));
    }
    return out;
}

std::vector<double> knotsOf(std::vector<double> values, const std::vector<double>& shares) {
    std::sort(values.begin(), values.end());
    std::vector<double> out;
    for (const double share : shares) {
        const double place = share * (static_cast<double>(values.size()) - 1.0);
        const auto below = static_cast<std::size_t>(place);
        const double part = place - std::floor(place);
        const double v =
            values[below] +
            (below + 1 < values.size() ? part * (values[below + 1] - values[below]) : 0.0);
        // Four digits: a knot is a place on a scale, not an estimate.
        const double unit =
            v == 0.0 ? 1.0 : std::pow(10.0, std::floor(std::log10(std::abs(v))) - 3.0);
        out.push_back(std::round(v / unit) * unit);
    }
    return out;
}

std::vector<Proposal> proposals(const std::string& name, bool outcome,
                                const std::vector<double>& values) {
    const std::string quoted = quotedName(name);
    std::vector<Proposal> out;
    for (const Rung& rung : ladder()) {
        out.push_back({fmt::format(fmt::runtime(rung.label), name), {rung.of(quoted)}, &rung});
    }
    if (outcome) {
        return out;
    }
    out.push_back({name + " with its square", {quoted, "power(" + quoted + ", 2)"}});
    out.push_back({name + " with square and cube",
                   {quoted, "power(" + quoted + ", 2)", "power(" + quoted + ", 3)"}});
    const std::vector<std::vector<double>> shares = {
        {0.1, 0.5, 0.9}, {0.05, 0.35, 0.65, 0.95}, {0.05, 0.275, 0.5, 0.725, 0.95}};
    for (const auto& share : shares) {
        const auto knots = knotsOf(values, share);
        const bool distinct =
            std::adjacent_find(knots.begin(), knots.end(), std::greater_equal<>()) == knots.end();
        if (distinct) {
            out.push_back(
                {fmt::format("spline of {} knots", share.size()), splineTerms(quoted, knots)});
        }
    }
    return out;
}

/// A term that is the variable alone, in whatever shape.
bool isOf(const Term& term, const std::string& name) {
    if (term.kind != Term::Kind::Expression) {
        return false;
    }
    const auto parsed = Expression::parse(term.parts.front());
    return parsed && parsed->names().size() == 1 && *parsed->names().begin() == name;
}

class Trials {
  public:
    Trials(const Frame& frame, const Question& question, const std::vector<TermSet>& sets,
           const std::string& of, const std::string& along, const Job& job)
        : frame_(frame), question_(question), sets_(sets), job_(job) {
        out_.of = of;
        out_.along = along;
    }

    Result<ShapeTrials> run() {
        if (familyOf(question_.method) != nullptr || hasTrait(question_.method, trait::kNoLine)) {
            return refuse(ErrorCode::BadSetting,
                          "shapes are tried by least squares, and this question is asked another "
                          "way",
                          question_.title, "Try a variant by least squares first.");
        }
        own_ = ownOutcome(frame_, question_.outcome);
        out_.outcome = !own_.variable.empty() && out_.of == own_.variable;
        out_.own = own_.variable.empty() ? question_.outcome : own_.variable;
        if (auto done = checkVariable(); !done) {
            return tl::make_unexpected(done.error());
        }
        auto design = makeDesign(frame_, question_, sets_, job_);
        if (!design) {
            return tl::make_unexpected(design.error());
        }
        rows_ = design->rows;
        const auto cells = frame_.column(out_.of)->numbers();
        std::vector<double> values;
        for (const std::size_t row : rows_) {
            values.push_back(cells[row]);
        }
        out_.logged = own_.rung->power == 0.0;
        fillPoints(*design);
        std::set<std::string> present;
        for (const Term& term : question_.terms) {
            if (!term.muted && isOf(term, out_.of)) {
                present.insert(canonicalText(term.parts.front()));
            }
        }
        const auto all = proposals(out_.of, out_.outcome, values);
        bool known = false;
        for (std::size_t i = 0; i < all.size(); ++i) {
            if (job_.stopped()) {
                return refuse(ErrorCode::Stopped, "the trials were stopped");
            }
            ShapeTrial trial = tried(all[i]);
            std::set<std::string> mine;
            for (const std::string& term : all[i].terms) {
                mine.insert(canonicalText(term));
            }
            trial.present = out_.outcome ? all[i].rung == own_.rung : mine == present;
            known = known || trial.present;
            out_.trials.push_back(std::move(trial));
            job_.report(static_cast<double>(i + 1) / static_cast<double>(all.size()));
        }
        if (!known) {
            Proposal mine{"as in the question", {}, own_.rung};
            ShapeTrial trial;
            trial.question = question_;
            fit(trial, own_.rung);
            trial.label = mine.label;
            trial.present = true;
            out_.trials.insert(out_.trials.begin(), std::move(trial));
        }
        return std::move(out_);
    }

  private:
    Result<void> checkVariable() {
        const Column* column = frame_.column(out_.of);
        const Variable* variable = frame_.variable(out_.of);
        if (column == nullptr || variable == nullptr) {
            return refuse(ErrorCode::UnknownName, "there is no variable ‘" + out_.of + "’");
        }
        if (column->isText() || isGrouping(variable->measure) ||
            variable->measure == Measure::YesNo) {
            return refuse(ErrorCode::WrongType, "‘" + out_.of + "’ has no shape to try", "",
                          "Shapes are of quantities and counts.", {out_.of});
        }
        const bool stands =
            std::any_of(question_.terms.begin(), question_.terms.end(),
                        [&](const Term& t) { return !t.muted && isOf(t, out_.of); });
        if (!out_.outcome && !stands) {
            return refuse(ErrorCode::BadSetting, "‘" + out_.of + "’ stands in no term of its own",
                          "",
                          "It enters through a set, a product or a derived variable: put it into "
                          "the question by itself to try its shape.",
                          {out_.of});
        }
        if (!out_.outcome) {
            out_.along = out_.of;
        }
        const Column* along = frame_.column(out_.along);
        if (along == nullptr || along->isText()) {
            return refuse(ErrorCode::WrongType, "‘" + out_.along + "’ is no axis for curves", "",
                          "Choose a quantity.");
        }
        return {};
    }

    /// The rows in the outcome’s own units; at most 20,000 of them.
    void fillPoints(const Design& design) {
        const auto n = static_cast<Index>(rows_.size());
        const Index step = (n + kMostRows - 1) / kMostRows;
        const auto x = frame_.column(out_.along)->numbers();
        for (Index i = 0; i < n; i += step) {
            const auto row = rows_[static_cast<std::size_t>(i)];
            const auto y = own_.rung->back(design.y(i));
            if (!y || !std::isfinite(x[row]) || (out_.logged && !(*y > 0.0))) {
                continue;
            }
            out_.points.x.push_back(x[row]);
            out_.points.y.push_back(out_.logged ? std::log10(*y) : *y);
            out_.points.rows.push_back(row);
        }
        const Variable* v = frame_.variable(out_.along);
        const Variable* own = frame_.variable(out_.own);
        out_.points.xTitle = v->label.empty() ? out_.along : v->label;
        out_.points.xTitle += v->unit.empty() ? "" : ", " + v->unit;
        out_.points.yTitle =
            out_.own + (own == nullptr || own->unit.empty() ? "" : ", " + own->unit);
        out_.points.yScale = out_.logged ? AxisScale::Log : AxisScale::Number;
    }

    [[nodiscard]] Question questionFor(const Proposal& proposal) const {
        Question q = question_;
        q.id.clear();
        q.lead = false;
        q.variantOf = question_.variantOf.empty() ? question_.id : question_.variantOf;
        q.title = proposal.label;
        if (out_.outcome) {
            q.outcome = proposal.terms.front();
            return q;
        }
        std::vector<Term> terms;
        bool placed = false;
        for (const Term& term : q.terms) {
            if (term.muted || !isOf(term, out_.of)) {
                terms.push_back(term);
                continue;
            }
            if (!placed) {
                for (const std::string& text : proposal.terms) {
                    terms.push_back(Term::expression(text));
                }
                placed = true;
            }
        }
        q.terms = std::move(terms);
        return q;
    }

    ShapeTrial tried(const Proposal& proposal) {
        ShapeTrial trial;
        trial.label = proposal.label;
        trial.question = questionFor(proposal);
        fit(trial, out_.outcome ? proposal.rung : own_.rung);
        return trial;
    }

    void fit(ShapeTrial& trial, const Rung* rung) {
        auto design = makeDesign(frame_, trial.question, sets_, job_);
        if (!design) {
            trial.none = design.error().what;
            return;
        }
        if (design->rows.size() != rows_.size()) {
            trial.none =
                plural(rows_.size() - std::min(rows_.size(), design->rows.size()), "row", "rows") +
                " would have no value";
            return;
        }
        const auto fitted = fitLeastSquares(*design, ErrorSpec{}, 0.05, job_.quiet());
        if (!fitted) {
            trial.none = fitted.error().what;
            return;
        }
        if (!fitted->dropped.empty()) {
            trial.none = "its columns cannot be told apart";
            return;
        }
        trial.coefficients = static_cast<double>(fitted->coefficients.size());
        measure(trial, *design, *fitted, *rung);
        if (trial.none.empty()) {
            draw(trial, *design, *fitted, *rung);
        }
    }

    /// Mean of what lies behind z plus each of some residuals.
    [[nodiscard]] static std::optional<double> smeared(double z, const VectorXd& left,
                                                       const Rung& rung) {
        if (rung.power == 1.0) {
            return z;
        }
        double sum = 0.0;
        for (Index i = 0; i < left.size(); ++i) {
            const auto y = rung.back(z + left(i));
            if (!y) {
                return std::nullopt;
            }
            sum += *y;
        }
        return sum / static_cast<double>(left.size());
    }

    /// Residuals at even ranks, at most 200.
    [[nodiscard]] static VectorXd residualPlaces(const VectorXd& residuals) {
        std::vector<double> e(residuals.data(), residuals.data() + residuals.size());
        std::sort(e.begin(), e.end());
        const auto n = static_cast<Index>(e.size());
        const Index m = std::min(n, kSmears);
        VectorXd out(m);
        for (Index i = 0; i < m; ++i) {
            const double place =
                (static_cast<double>(i) + 0.5) * static_cast<double>(n) / static_cast<double>(m);
            out(i) = e[static_cast<std::size_t>(place)];
        }
        return out;
    }

    void measure(ShapeTrial& trial, const Design& design, const Fit& fitted, const Rung& rung) {
        const VectorXd places = residualPlaces(fitted.residuals);
        const VectorXd& w = design.weights;
        const auto n = design.y.size();
        const Index step = (n + kMostRows - 1) / kMostRows;
        double sum = 0.0;
        double total = 0.0;
        double jacobian = 0.0;
        for (Index i = 0; i < n; ++i) {
            const double weight = w.size() > 0 ? w(i) : 1.0;
            const double y = *rung.back(design.y(i));
            jacobian +=
                (design.weightKind == WeightKind::Frequency ? weight : 1.0) * rung.logSlope(y);
            if (i % step != 0) {
                continue;
            }
            const auto guess = smeared(fitted.fitted(i), places, rung);
            if (!guess || !std::isfinite(*guess)) {
                trial.none = "it foretells values that " + out_.own + " cannot have";
                return;
            }
            sum += weight * (y - *guess) * (y - *guess);
            total += weight;
        }
        trial.error = std::sqrt(sum / total);
        if (fitted.statistics.aic && std::isfinite(jacobian)) {
            trial.aic = *fitted.statistics.aic - 2.0 * jacobian;
        }
    }

    void draw(ShapeTrial& trial, const Design& design, const Fit& fitted, const Rung& rung) {
        const auto map = ScenarioMap::make(frame_, design);
        if (!map) {
            return;
        }
        const ScenarioVariable* v = map->find(out_.along);
        if (v == nullptr) {
            return;
        }
        std::vector<ScenarioValues> places;
        for (int i = 0; i < kPlaces; ++i) {
            const double share = static_cast<double>(i) / (kPlaces - 1);
            places.push_back({{out_.along, v->low + share * (v->high - v->low)}});
        }
        const auto X = map->at(places);
        if (!X) {
            return;
        }
        const VectorXd left = residualPlaces(fitted.residuals);
        const VectorXd z = (*X)(Eigen::all, fitted.solution.kept) * fitted.solution.coefficients;
        trial.curve.name = trial.label;
        for (int i = 0; i < kPlaces; ++i) {
            const auto y = smeared(z(i), left, rung);
            if (y && std::isfinite(*y) && (!out_.logged || *y > 0.0)) {
                trial.curve.x.push_back(
                    std::get<double>(places[static_cast<std::size_t>(i)].begin()->second));
                trial.curve.y.push_back(out_.logged ? std::log10(*y) : *y);
            }
        }
    }

    const Frame& frame_;
    const Question& question_;
    const std::vector<TermSet>& sets_;
    const Job& job_;
    OwnOutcome own_;
    std::vector<std::size_t> rows_;
    ShapeTrials out_;
};

}  // namespace

const ShapeTrial* ShapeTrials::best() const {
    const ShapeTrial* found = nullptr;
    const auto value = [](const ShapeTrial& t) { return t.aic.value_or(t.error); };
    for (const ShapeTrial& trial : trials) {
        if (trial.none.empty() && (found == nullptr || value(trial) < value(*found))) {
            found = &trial;
        }
    }
    return found;
}

Exhibit ShapeTrials::exhibit(int chosen) const {
    Exhibit e = points;
    const ShapeTrial* top = best();
    e.title = outcome ? "Shapes of " + own : "Shapes of " + of;
    e.subtitle = own + " along " + along + ", the other terms at their means and bases · n = " +
                 countText(points.rows.size());
    int series = 0;
    for (const bool faint : {true, false}) {
        for (std::size_t i = 0; i < trials.size(); ++i) {
            const ShapeTrial& trial = trials[i];
            const bool shown = trial.present || &trial == top || static_cast<int>(i) == chosen;
            if (trial.curve.x.empty() || shown == faint) {
                continue;
            }
            Exhibit::Line line = trial.curve;
            line.faint = faint;
            line.name = faint ? "" : line.name;
            line.series = faint ? -1 : series++;
            line.dashed = !faint && trial.present && &trial != top;
            e.lines.push_back(std::move(line));
        }
    }
    return e;
}

std::string outcomeVariable(const Frame& frame, const Question& question) {
    return ownOutcome(frame, question.outcome).variable;
}

Result<ShapeTrials> shapeTrials(const Frame& frame, const Question& question,
                                const std::vector<TermSet>& sets, const std::string& of,
                                const std::string& along, const Job& job) {
    return Trials(frame, question, sets, of, along, job).run();
}

}  // namespace rapporto
