#include "core/paths/system.h"

#include "core/base/format.h"
#include "core/base/shown_names.h"
#include "core/numerics/linear_solution.h"
#include "core/study/explain.h"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <functional>
#include <map>
#include <set>

namespace rapporto {
namespace {

using Eigen::Index;
using Eigen::MatrixXd;
using Eigen::VectorXd;

tl::unexpected<Refusal> bad(const std::string& what, const std::string& help,
                            std::vector<std::string> names) {
    return refuse(ErrorCode::BadSetting, what, "", help, std::move(names));
}

/// Terms with sets written out.
std::vector<Term> spelledOut(const std::vector<Term>& terms, const std::vector<TermSet>& sets) {
    std::vector<Term> out;
    for (const Term& term : terms) {
        const auto set = term.kind != Term::Kind::Set
                             ? sets.end()
                             : std::find_if(sets.begin(), sets.end(), [&](const TermSet& s) {
                                   return s.name == term.parts.front();
                               });
        if (set == sets.end()) {
            out.push_back(term);
            continue;
        }
        for (const std::string& member : set->members) {
            out.push_back(Term::expression(member));
        }
    }
    return out;
}

/// The names that an expression hangs on, derived variables followed through. What is looked up in
/// an earlier row says nothing about this one.
void gatherNames(const Frame& frame, const Node& node, std::set<std::string>& into) {
    if (node.kind == Node::Kind::Call && node.text == "lag") {
        return;
    }
    if (node.kind == Node::Kind::Name && into.insert(node.text).second) {
        const Variable* variable = frame.variable(node.text);
        if (variable != nullptr && !variable->expression.empty()) {
            if (const auto parsed = Expression::parse(variable->expression)) {
                gatherNames(frame, parsed->root(), into);
            }
        }
    }
    for (const auto& child : node.children) {
        gatherNames(frame, *child, into);
    }
}

std::set<std::string> namesBehind(const Frame& frame, const std::string& text) {
    std::set<std::string> names;
    if (const auto parsed = Expression::parse(text)) {
        gatherNames(frame, parsed->root(), names);
    }
    return names;
}

/// Builds a system step by step.
class Builder {
  public:
    Builder(const Study& study, const Frame& frame, const Question& question, RowCounts& counts,
            const Job& job)
        : study_(study),
          frame_(frame),
          question_(question),
          spec_(withoutMuted(question.trace, study.sets)),
          counts_(counts),
          job_(job) {}

    Result<PathSystem> build() {
        for (const auto step : {&Builder::checkNames, &Builder::findOrder, &Builder::chooseRows,
                                &Builder::estimate}) {
            if (auto done = (this->*step)(); !done) {
                return tl::make_unexpected(done.error());
            }
        }
        if (auto done = nameColumns(); !done) {
            return tl::make_unexpected(done.error());
        }
        describeNodes();
        return std::move(system_);
    }

  private:
    Result<void> checkNames() {
        if (spec_.isEmpty()) {
            return refuse(ErrorCode::NoTerms, "the question has no outcome", question_.title,
                          "Put a variable after “reaches”.");
        }
        if (question_.errors.kind == "bootstrap") {
            return bad("the errors of a trace are not drawn",
                       "Its effects are: choose how in ‘resampling’, ‘draws’ and ‘interval’, and "
                       "errors of another kind.",
                       {});
        }
        std::set<std::string> seen;
        for (const PathSpec& path : spec_.paths) {
            const std::string to = canonicalText(path.to);
            if (path.to.empty()) {
                return refuse(ErrorCode::NoTerms, "a path leads nowhere", question_.title,
                              "Say in ‘to’ what it explains.");
            }
            if (!seen.insert(to).second) {
                return bad("‘" + to + "’ is explained twice",
                           "Put all that explains it into one equation.", {to});
            }
            if (auto done = checkTerms(path, to); !done) {
                return done;
            }
        }
        for (const Term& term : spelledOut(spec_.holding, study_.sets)) {
            for (const std::string& part : term.parts) {
                if (seen.contains(canonicalText(part))) {
                    return bad("‘" + canonicalText(part) + "’ is explained and held",
                               "What is held stands in every equation, its own among them: name "
                               "it where it is a cause.",
                               {canonicalText(part)});
                }
            }
        }
        return {};
    }

    Result<void> checkTerms(const PathSpec& path, const std::string& to) {
        for (const Term& term : spelledOut(path.from, study_.sets)) {
            for (const std::string& part : term.parts) {
                const std::string from = canonicalText(part);
                if (from == to) {
                    return bad("‘" + to + "’ would explain itself",
                               "Take it out of its own equation.", {to});
                }
                if (namesBehind(frame_, from).contains(to)) {
                    return bad("the cause ‘" + from + "’ is worked out from ‘" + to +
                                   "’, which it is to explain",
                               "Take it out, or explain something else with it.", {from, to});
                }
            }
        }
        return {};
    }

    /// Equations after what they need; a circle is refused by the names on it.
    Result<void> findOrder() {
        std::map<std::string, std::size_t> explained;
        for (std::size_t e = 0; e < spec_.paths.size(); ++e) {
            explained.emplace(canonicalText(spec_.paths[e].to), e);
        }
        std::vector<std::vector<std::size_t>> needs(spec_.paths.size());
        for (std::size_t e = 0; e < spec_.paths.size(); ++e) {
            for (const Term& term : spelledOut(spec_.paths[e].from, study_.sets)) {
                for (const std::string& part : term.parts) {
                    if (const auto at = explained.find(canonicalText(part));
                        at != explained.end()) {
                        needs[e].push_back(at->second);
                    }
                }
            }
        }
        std::vector<int> state(spec_.paths.size(), 0);  // 1: being visited, 2: done.
        std::vector<std::size_t> way;
        std::vector<std::string> circle;
        const std::function<bool(std::size_t)> visit = [&](std::size_t e) {
            state[e] = 1;
            way.push_back(e);
            for (const std::size_t before : needs[e]) {
                if (state[before] == 1) {
                    const auto from = std::find(way.begin(), way.end(), before);
                    circle.push_back(canonicalText(spec_.paths[before].to));
                    for (auto at = way.end(); at != from;) {
                        circle.push_back(canonicalText(spec_.paths[*--at].to));
                    }
                    std::reverse(circle.begin(), circle.end());
                    return false;
                }
                if (state[before] == 0 && !visit(before)) {
                    return false;
                }
            }
            way.pop_back();
            state[e] = 2;
            system_.order.push_back(e);
            return true;
        };
        for (std::size_t e = 0; e < spec_.paths.size(); ++e) {
            if (state[e] == 0 && !visit(e)) {
                std::string text;
                for (auto at = circle.rbegin(); at != circle.rend(); ++at) {
                    text += (text.empty() ? "" : " → ") + *at;
                }
                return bad("the paths run in a circle: " + text,
                           "Nothing comes first in it, so no effect can be told: take one of its "
                           "paths out.",
                           circle);
            }
        }
        return {};
    }

    /// The rows that have everything: those of a question with all outcomes and terms in it.
    Result<void> chooseRows() {
        if (frame_.moments() != nullptr) {
            return {};
        }
        if (frame_.ruleRefusal()) {
            return tl::make_unexpected(*frame_.ruleRefusal());
        }
        Question all = withSurvey(equationOf(spec_.paths.front()), study_.survey);
        std::set<std::string> there = {canonicalText(all.outcome)};
        std::vector<Term> terms;
        const auto add = [&](const Term& term) {
            std::string name;
            for (const std::string& part : term.parts) {
                name += (name.empty() ? "" : " × ") + canonicalText(part);
            }
            if (there.insert(name).second) {
                terms.push_back(term);
            }
        };
        for (const PathSpec& path : spec_.paths) {
            std::for_each(path.from.begin(), path.from.end(), add);
            add(Term::expression(path.to));
        }
        std::for_each(spec_.holding.begin(), spec_.holding.end(), add);
        all.terms = std::move(terms);
        const std::size_t clusters = all.errors.by.size();
        const bool drawn = spec_.resampling == "clusters" && spec_.interval != "delta";
        if (drawn) {
            all.errors.by.push_back(spec_.by.front());
        }
        auto design = makeDesign(frame_, all, study_.sets, job_, &counts_);
        if (!design) {
            return tl::make_unexpected(design.error());
        }
        counts_ = design->counts;
        rows_ = design->rows;
        if (drawn) {
            system_.drawn = design->clusters[clusters];
            system_.drawnCount = design->clusterCounts[clusters];
            if (system_.drawnCount < 2) {
                return bad("‘" + spec_.by.front() + "’ has one cluster in the rows used",
                           "Draws of clusters need many of them: draw rows.", {spec_.by.front()});
            }
        }
        std::vector<bool> used(frame_.rows(), false);
        for (const std::size_t row : rows_) {
            used[row] = true;
        }
        for (std::size_t row = 0; row < used.size(); ++row) {
            if (!used[row] && frame_.states()[row] == RowState::In) {
                lacking_.push_back(row + 1);
            }
        }
        return {};
    }

    [[nodiscard]] Question equationOf(const PathSpec& path) const {
        Question q = question_;
        q.kind = "explain";
        q.trace = {};
        q.raw = nullptr;
        q.outcome = path.to;
        q.method = path.estimator;
        q.terms = path.from;
        std::set<std::string> there;
        for (const Term& term : q.terms) {
            there.insert(term.shown());
        }
        for (const Term& term : spec_.holding) {
            if (there.insert(term.shown()).second) {
                q.terms.push_back(term);
            }
        }
        // The checks of the whole are not asked of an equation.
        std::erase_if(q.checks, [](const CheckRequest& request) {
            const Check* check = findCheck(request.id);
            return check != nullptr && check->of == fits::kTrace;
        });
        return q;
    }

    Result<void> estimate() {
        for (const PathSpec& path : spec_.paths) {
            Question q = equationOf(path);
            q.without.insert(q.without.end(), lacking_.begin(), lacking_.end());
            RowCounts own;
            auto found = estimateQuestion(study_, frame_, q, own, job_);
            if (!found) {
                Refusal why = found.error();
                why.what = "the equation of ‘" + canonicalText(path.to) + "’: " + why.what;
                return tl::make_unexpected(why);
            }
            if (frame_.moments() != nullptr) {
                counts_ = own;
            } else if (found->design.rows != rows_) {
                // Rows that a term tells for certain have left a likelihood.
                return bad("the equation of ‘" + canonicalText(path.to) +
                               "’ cannot use all rows that the others use",
                           "A term tells its outcome for certain in some of them: take that term "
                           "out.",
                           {canonicalText(path.to)});
            }
            TraceEquation equation;
            equation.to = canonicalText(path.to);
            q.without = question_.without;
            equation.question = q;
            equation.checkRows = found->forChecks;
            equation.design = std::make_shared<const Design>(std::move(found->design));
            equation.fit = std::make_shared<const Fit>(std::move(found->fit));
            for (const std::string& warning : equation.design->warnings) {
                warn(warning);
            }
            system_.equations.push_back(std::move(equation));
        }
        system_.weights = system_.equations.front().design->weights;
        system_.n = system_.equations.front().fit->n;
        return {};
    }

    void warn(const std::string& text) {
        auto& all = system_.warnings;
        if (std::find(all.begin(), all.end(), text) == all.end()) {
            all.push_back(text);
        }
    }

    int addNode(const std::string& name, const std::string& label, const VectorXd& values) {
        if (const int at = system_.node(name); at >= 0) {
            return at;
        }
        TraceNode node;
        node.name = name;
        node.label = label;
        system_.nodes.push_back(std::move(node));
        system_.values.push_back(values);
        system_.levelOf.emplace_back();
        return static_cast<int>(system_.nodes.size()) - 1;
    }

    /// Every outcome is a node, then every factor of every column.
    Result<void> nameColumns() {
        for (std::size_t e = 0; e < system_.equations.size(); ++e) {
            const TraceEquation& equation = system_.equations[e];
            const int at = addNode(equation.to, equation.design->outcomeLabel, equation.design->y);
            system_.nodes[static_cast<std::size_t>(at)].equation = static_cast<int>(e);
            system_.nodes[static_cast<std::size_t>(at)].yesNo = equation.design->outcomeYesNo;
        }
        std::vector<double> theta;
        for (std::size_t e = 0; e < system_.equations.size(); ++e) {
            const TraceEquation& equation = system_.equations[e];
            const Design& design = *equation.design;
            std::vector<std::vector<int>> factors(design.columns.size());
            for (const DesignTerm& term : design.terms) {
                if (auto done = factorsOf(design, term, factors); !done) {
                    return done;
                }
            }
            system_.first.push_back(static_cast<Index>(theta.size()));
            for (const Coefficient& c : equation.fit->coefficients) {
                if (c.equation != "main") {
                    return bad("‘" + equation.to + "’ has more than one equation of its own",
                               "Choose least squares, logit, probit or poisson.", {equation.to});
                }
                theta.push_back(c.estimate);
                system_.columns.push_back(
                    {e, c.column, factors[static_cast<std::size_t>(c.column)]});
            }
        }
        system_.first.push_back(static_cast<Index>(theta.size()));
        system_.theta = Eigen::Map<const VectorXd>(theta.data(), static_cast<Index>(theta.size()));
        return {};
    }

    /// The nodes behind the columns of a term: the product of its factors’ columns, the last
    /// factor’s changing fastest.
    Result<void> factorsOf(const Design& design, const DesignTerm& term,
                           std::vector<std::vector<int>>& into) {
        std::vector<std::vector<int>> made = {{}};
        for (const DesignFactor& factor : term.factors) {
            auto own = nodesOf(design, term, factor);
            if (!own) {
                return tl::make_unexpected(own.error());
            }
            std::vector<std::vector<int>> next;
            for (const auto& before : made) {
                for (const int node : *own) {
                    next.push_back(before);
                    next.back().push_back(node);
                }
            }
            made = std::move(next);
        }
        for (std::size_t c = 0; c < term.columns.size(); ++c) {
            into[static_cast<std::size_t>(term.columns[c])] = made[c];
        }
        return {};
    }

    Result<std::vector<int>> nodesOf(const Design& design, const DesignTerm& term,
                                     const DesignFactor& factor) {
        const std::string name = canonicalText(factor.text);
        std::vector<int> out;
        const bool single = term.factors.size() == 1;
        if (!factor.groups) {
            if (const int at = system_.node(name); at >= 0) {
                return std::vector<int>{at};
            }
            auto values = single ? Result<VectorXd>(design.X.col(term.columns.front()))
                                 : valuesOf(factor, nullptr);
            if (!values) {
                return tl::make_unexpected(values.error());
            }
            const int at = addNode(name, single ? term.label : name, *values);
            system_.nodes[static_cast<std::size_t>(at)].yesNo = single && term.yesNo;
            return std::vector<int>{at};
        }
        for (std::size_t l = 0; l < factor.levels.size(); ++l) {
            if (l == factor.base) {
                continue;
            }
            const std::string level = name + "=" + factor.levels[l].label;
            int at = system_.node(level);
            if (at < 0) {
                auto values = valuesOf(factor, &factor.levels[l]);
                if (!values) {
                    return tl::make_unexpected(values.error());
                }
                const int outcome = system_.node(name);
                if (outcome >= 0 && system_.values[static_cast<std::size_t>(outcome)] == *values) {
                    at = outcome;  // A yes–no that one equation explains and another has as levels.
                } else if (outcome >= 0) {
                    return bad("‘" + name +
                                   "’ stands as levels in one equation and is explained "
                                   "as a number by another",
                               "Declare it a quantity, or explain one of its levels, as in " +
                                   quotedName(name) + " = '" + factor.levels[l].label + "'.",
                               {name});
                } else {
                    at = addNode(level, level, *values);
                    system_.nodes[static_cast<std::size_t>(at)].yesNo = true;
                    system_.levelOf[static_cast<std::size_t>(at)] = name;
                }
            }
            out.push_back(at);
        }
        return out;
    }

    /// A factor’s column in the rows used: its numbers, or where it has a level.
    Result<VectorXd> valuesOf(const DesignFactor& factor, const FoundLevel* level) const {
        const auto value = frame_.evaluateText(factor.text);
        if (!value) {
            return tl::make_unexpected(value.error());
        }
        const auto& rows = system_.equations.front().design->rows;
        VectorXd out(static_cast<Index>(rows.size()));
        for (std::size_t i = 0; i < rows.size(); ++i) {
            const double cell = value->column.isText()
                                    ? static_cast<double>(value->column.codes()[rows[i]])
                                    : value->column.numbers()[rows[i]];
            out(static_cast<Index>(i)) = level == nullptr ? cell : cell == level->code ? 1.0 : 0.0;
        }
        return out;
    }

    void describeNodes() {
        std::set<std::string> held;
        for (const Term& term : spelledOut(spec_.holding, study_.sets)) {
            for (const std::string& part : term.parts) {
                held.insert(canonicalText(part));
            }
        }
        const double weight = system_.weights.size() > 0 ? system_.weights.sum() : 0.0;
        for (std::size_t v = 0; v < system_.nodes.size(); ++v) {
            TraceNode& node = system_.nodes[v];
            const VectorXd& x = system_.values[v];
            node.held = held.contains(node.name) || held.contains(system_.levelOf[v]);
            node.mean = weight > 0.0 ? x.dot(system_.weights) / weight : x.mean();
            node.sd = std::sqrt(centredSquares(x, system_.weights) / (system_.n - 1.0));
        }
        // A grouping’s levels are set together.
        std::map<std::string, int> groupings;
        for (const std::string& name : system_.levelOf) {
            system_.siblings.push_back(
                name.empty()
                    ? -1
                    : groupings.emplace(name, static_cast<int>(groupings.size())).first->second);
        }
        for (const TraceEquation& equation : system_.equations) {
            for (const TraceNode& node : system_.nodes) {
                if (node.equation < 0 && namesBehind(frame_, node.name).contains(equation.to)) {
                    warn(
                        "‘" + node.name + "’ is worked out from ‘" + equation.to +
                        "’, and counts as a cause of its own: no way passes through it. Explain ‘" +
                        node.name + "’ instead to follow it.");
                }
            }
        }
    }

    const Study& study_;
    const Frame& frame_;
    const Question& question_;
    const TraceSpec spec_;
    RowCounts& counts_;
    const Job& job_;
    std::vector<std::size_t> rows_;     ///< Used, from 0.
    std::vector<std::size_t> lacking_;  ///< In the sample and not used, from 1.
    PathSystem system_;
};

}  // namespace

int PathSystem::node(const std::string& name) const {
    for (std::size_t v = 0; v < nodes.size(); ++v) {
        if (plainName(nodes[v].name) == plainName(name)) {
            return static_cast<int>(v);
        }
    }
    return -1;
}

bool PathSystem::isLinear() const {
    return std::all_of(equations.begin(), equations.end(),
                       [](const TraceEquation& e) { return e.isLinear(); });
}

std::vector<int> PathSystem::parents(int node) const {
    std::vector<int> out;
    const int equation = nodes[static_cast<std::size_t>(node)].equation;
    for (const ColumnFactors& column : columns) {
        if (static_cast<int>(column.equation) != equation) {
            continue;
        }
        for (const int factor : column.factors) {
            if (std::find(out.begin(), out.end(), factor) == out.end()) {
                out.push_back(factor);
            }
        }
    }
    return out;
}

TraceSpec withoutMuted(const TraceSpec& spec, const std::vector<TermSet>& sets) {
    TraceSpec out = spec;
    std::set<std::string> muted;
    for (const std::string& name : spec.muted) {
        muted.insert(canonicalText(name));
    }
    out.muted.clear();
    if (muted.empty()) {
        return out;
    }
    const auto isOut = [&](const std::string& text) {
        return muted.contains(canonicalText(text)) || muted.contains(text.substr(0, levelAt(text)));
    };
    const auto thin = [&](std::vector<Term>& terms) {
        terms = spelledOut(terms, sets);
        std::erase_if(terms, [&](const Term& term) {
            return term.muted || std::any_of(term.parts.begin(), term.parts.end(), isOut);
        });
    };
    std::erase_if(out.paths, [&](const PathSpec& path) { return isOut(path.to); });
    for (PathSpec& path : out.paths) {
        thin(path.from);
    }
    thin(out.holding);
    std::erase_if(out.effects,
                  [&](const TracedPair& pair) { return isOut(pair.from) || isOut(pair.to); });
    for (TracedPair& pair : out.effects) {
        std::erase_if(pair.at, [&](const ModeratorValues& one) { return isOut(one.name); });
    }
    return out;
}

Result<PathSystem> makeSystem(const Study& study, const Frame& frame, const Question& question,
                              RowCounts& counts, const Job& job) {
    return Builder(study, frame, question, counts, job).build();
}

}  // namespace rapporto
