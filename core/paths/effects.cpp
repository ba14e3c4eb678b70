#include "core/paths/effects.h"

#include "core/base/format.h"
#include "core/base/shown_names.h"
#include "core/paths/trace_edits.h"

#include <algorithm>
#include <cmath>
#include <functional>
#include <limits>
#include <set>

namespace rapporto {
namespace {

using Eigen::Index;
using Eigen::MatrixXd;
using Eigen::VectorXd;

constexpr std::size_t kMostWays = 500;  ///< Listed one by one, of a pair at a setting.
constexpr std::size_t kMostSettings = 200;
constexpr std::size_t kMostEffects = 3000;  ///< In all: each is kept for every draw.

tl::unexpected<Refusal> bad(const std::string& what, const std::string& help,
                            std::vector<std::string> names) {
    return refuse(ErrorCode::BadSetting, what, "effects", help, std::move(names));
}

}  // namespace

/// Makes a plan; apart from it so that the plan itself has nothing but numbers to do.
class PlanMaker {
  public:
    PlanMaker(const PathSystem& system, const TraceSpec& spec)
        : system_(system), spec_(spec), plan_(system) {}

    Result<EffectPlan> make() {
        findUpward();
        addSetting({});
        for (std::size_t a = 0; a < plan_.settings_.front().arrows.size(); ++a) {
            const auto& arrow = plan_.settings_.front().arrows[a];
            TraceArrow shown;
            shown.from = arrow.from;
            shown.to = arrow.to;
            shown.moderated = arrow.parts.size() > 1;
            plan_.arrows_.push_back(shown);
        }
        auto pairs = spec_.effects.empty() ? allPairs() : spec_.effects;
        for (const TracedPair& pair : pairs) {
            if (auto done = addPair(pair); !done) {
                return tl::make_unexpected(done.error());
            }
            if (plan_.outputs_.size() > kMostEffects) {
                return bad(
                    "there are more than " + countText(kMostEffects) + " effects and ways to tell",
                    "Name the pairs that are asked for in ‘effects’, or mute variables.", {});
            }
        }
        // Shares stand behind all effects.
        for (auto& share : shares_) {
            plan_.outputs_.push_back(share.first);
            plan_.shares_.push_back(share.second);
        }
        for (std::size_t a = 0; a < plan_.arrows_.size(); ++a) {
            Output arrow;
            arrow.way = {a};
            plan_.outputs_.push_back(arrow);
        }
        return std::move(plan_);
    }

  private:
    using Output = EffectPlan::Output;
    using Setting = EffectPlan::Setting;

    void findUpward() {
        for (std::size_t v = 0; v < system_.nodes.size(); ++v) {
            if (system_.nodes[v].equation < 0) {
                plan_.upward_.push_back(static_cast<int>(v));
            }
        }
        for (const std::size_t e : system_.order) {
            plan_.upward_.push_back(system_.node(system_.equations[e].to));
        }
    }

    /// What a node stands at: as asked, else at its mean.
    [[nodiscard]] double valueOf(int node, const ModeratorSetting& at) const {
        const auto v = static_cast<std::size_t>(node);
        for (const auto& [name, value] : at) {
            if (system_.nodes[v].name == name) {
                return numberOf(node, value);
            }
            if (system_.levelOf[v] == name) {
                return system_.nodes[v].name == name + "=" + keyText(value) ? 1.0 : 0.0;
            }
        }
        return system_.nodes[v].mean;
    }

    [[nodiscard]] static double numberOf(int /*node*/, const Key& value) {
        const double* number = std::get_if<double>(&value);
        return number != nullptr ? *number : std::numeric_limits<double>::quiet_NaN();
    }

    std::size_t addSetting(const ModeratorSetting& at) {
        for (std::size_t s = 0; s < plan_.settings_.size(); ++s) {
            if (plan_.settings_[s].at == at) {
                return s;
            }
        }
        Setting setting;
        setting.at = at;
        for (std::size_t e = 0; e < system_.equations.size(); ++e) {
            const int to = system_.node(system_.equations[e].to);
            for (const int from : system_.parents(to)) {
                setting.arrows.push_back({from, to, {}});
                for (Index j = system_.first[e]; j < system_.first[e + 1]; ++j) {
                    addParts(setting.arrows.back(), j, at);
                }
            }
        }
        plan_.settings_.push_back(std::move(setting));
        return plan_.settings_.size() - 1;
    }

    /// A column’s part of an arrow: for each place where the cause stands among its factors, the
    /// product of the others.
    void addParts(EffectPlan::Arrow& arrow, Index parameter, const ModeratorSetting& at) const {
        const auto& factors = system_.columns[static_cast<std::size_t>(parameter)].factors;
        double weight = 0.0;
        bool any = false;
        for (std::size_t f = 0; f < factors.size(); ++f) {
            if (factors[f] != arrow.from) {
                continue;
            }
            double others = 1.0;
            for (std::size_t g = 0; g < factors.size(); ++g) {
                others *= g == f ? 1.0 : valueOf(factors[g], at);
            }
            weight += others;
            any = true;
        }
        if (any) {
            arrow.parts.push_back({parameter, weight});
        }
    }

    [[nodiscard]] std::vector<bool> reaching(int to) const {
        std::vector<bool> above(system_.nodes.size(), false);
        above[static_cast<std::size_t>(to)] = true;
        for (auto v = plan_.upward_.rbegin(); v != plan_.upward_.rend(); ++v) {
            if (above[static_cast<std::size_t>(*v)]) {
                for (const int parent : system_.parents(*v)) {
                    above[static_cast<std::size_t>(parent)] = true;
                }
            }
        }
        return above;
    }

    /// Every pair that a path joins, causes of interest in the order of the nodes.
    [[nodiscard]] std::vector<TracedPair> allPairs() const {
        std::vector<TracedPair> pairs;
        for (const TraceEquation& equation : system_.equations) {
            const int to = system_.node(equation.to);
            const auto above = reaching(to);
            std::vector<int> causes = {};
            for (const bool explained : {false, true}) {
                for (std::size_t v = 0; v < system_.nodes.size(); ++v) {
                    const bool is = system_.nodes[v].equation >= 0;
                    if (is == explained && static_cast<int>(v) != to && above[v] &&
                        !system_.nodes[v].held) {
                        causes.push_back(static_cast<int>(v));
                    }
                }
            }
            for (const int from : causes) {
                pairs.push_back(
                    tracedPair(system_.nodes[static_cast<std::size_t>(from)].name, equation.to));
            }
        }
        return pairs;
    }

    Result<int> nodeNamed(const std::string& text) const {
        int node = system_.node(text);
        node = node >= 0 ? node : system_.node(canonicalText(text));
        if (node >= 0) {
            return node;
        }
        std::vector<std::string> levels;
        for (std::size_t v = 0; v < system_.nodes.size(); ++v) {
            if (plainName(system_.levelOf[v]) == plainName(canonicalText(text))) {
                levels.push_back(system_.nodes[v].name);
            }
        }
        if (levels.size() == 1) {
            return system_.node(levels.front());
        }
        if (!levels.empty()) {
            return bad("‘" + text + "’ has several levels",
                       "Ask for one against the base: " + joinedNames(levels) + ".", {text});
        }
        std::vector<std::string> names;
        for (const TraceNode& one : system_.nodes) {
            names.push_back(one.name);
        }
        return refuse(ErrorCode::UnknownName,
                      "‘" + text + "’ is asked for and stands in no equation", "effects",
                      "The system has " + joinedNames(names) + ".", {text});
    }

    /// Names of moderators as the nodes have them, checked.
    Result<std::vector<ModeratorValues>> moderatorsOf(const TracedPair& pair) const {
        std::vector<ModeratorValues> out;
        for (ModeratorValues one : pair.at) {
            one.name = system_.node(one.name) >= 0 ? one.name : canonicalText(one.name);
            const int node = system_.node(one.name);
            std::vector<std::string> levels;
            bool moderates = false;
            for (std::size_t v = 0; v < system_.nodes.size(); ++v) {
                const bool level = plainName(system_.levelOf[v]) == plainName(one.name);
                if (level) {
                    levels.push_back(system_.nodes[v].name);
                }
                moderates = moderates || ((static_cast<int>(v) == node || level) &&
                                          isModerator(static_cast<int>(v)));
            }
            if (node < 0 && levels.empty()) {
                return refuse(ErrorCode::UnknownName,
                              "the moderator ‘" + one.name + "’ stands in no equation", "effects",
                              "Put its product with a cause among the terms, and itself beside it.",
                              {one.name});
            }
            if (!moderates && !anyNatural_) {
                return bad("‘" + one.name + "’ moderates nothing: no product holds it",
                           "Put its product with a cause among the terms, or leave it out of ‘at’.",
                           {one.name});
            }
            for (Key& value : one.values) {
                if (node >= 0 && !std::holds_alternative<double>(value)) {
                    return refuse(ErrorCode::WrongType,
                                  "‘" + keyText(value) + "’ is no value of ‘" + one.name + "’",
                                  "effects", "Give a number.", {one.name});
                }
                if (node < 0) {
                    auto label = levelLabel(one.name, value);
                    if (!label) {
                        return tl::make_unexpected(label.error());
                    }
                    value = *std::move(label);
                }
            }
            out.push_back(std::move(one));
        }
        return out;
    }

    /// The label of a grouping’s level that is named by its label or value; that of the base is
    /// none of the nodes.
    Result<std::string> levelLabel(const std::string& grouping, const Key& value) const {
        for (const TraceEquation& equation : system_.equations) {
            for (const DesignTerm& term : equation.design->terms) {
                for (const DesignFactor& factor : term.factors) {
                    if (!factor.groups || canonicalText(factor.text) != grouping) {
                        continue;
                    }
                    for (const FoundLevel& level : factor.levels) {
                        if (level.label == keyText(value) || level.value == keyText(value)) {
                            return level.label;
                        }
                    }
                }
            }
        }
        return refuse(ErrorCode::WrongType,
                      "‘" + keyText(value) + "’ is no level of ‘" + grouping + "’", "effects",
                      "Name a level that occurs in the rows used.", {grouping});
    }

    [[nodiscard]] bool isModerator(int node) const {
        return std::any_of(
            system_.columns.begin(), system_.columns.end(), [&](const ColumnFactors& column) {
                return column.factors.size() > 1 &&
                       std::find(column.factors.begin(), column.factors.end(), node) !=
                           column.factors.end();
            });
    }

    /// All combinations, the last moderator changing fastest.
    static std::vector<ModeratorSetting> combinations(const std::vector<ModeratorValues>& at) {
        std::vector<ModeratorSetting> out = {{}};
        for (const ModeratorValues& one : at) {
            std::vector<ModeratorSetting> next;
            for (const ModeratorSetting& before : out) {
                for (const Key& value : one.values) {
                    next.push_back(before);
                    next.back().emplace_back(one.name, value);
                }
            }
            out = std::move(next);
        }
        return out;
    }

    Result<void> addPair(const TracedPair& asked) {
        const auto from = nodeNamed(asked.from);
        if (!from) {
            return tl::make_unexpected(from.error());
        }
        const auto to = nodeNamed(asked.to);
        if (!to) {
            return tl::make_unexpected(to.error());
        }
        const std::string fromName = nameOf(*from);
        const std::string toName = nameOf(*to);
        if (*from == *to || !reaching(*to)[static_cast<std::size_t>(*from)]) {
            return bad("no path joins ‘" + fromName + "’ and ‘" + toName + "’",
                       "Draw one, or ask for another pair.", {fromName, toName});
        }
        const bool natural = isNatural(*from, *to);
        anyNatural_ = natural;
        const auto at = moderatorsOf(asked);
        if (!at) {
            return tl::make_unexpected(at.error());
        }
        if (asked.change && !natural) {
            return bad("the effect of ‘" + fromName + "’ on ‘" + toName +
                           "’ is linear: it has no ‘change’",
                       "It is told for one unit; take ‘change’ out.", {fromName, toName});
        }
        const auto settings = combinations(*at);
        if (settings.size() > kMostSettings) {
            return bad("‘at’ makes " + countText(settings.size()) + " combinations",
                       "Name fewer values.", {});
        }
        std::vector<std::size_t> firsts;  // Of the first setting: its indirect outputs.
        for (const ModeratorSetting& setting : settings) {
            std::vector<std::size_t> indirect;
            if (natural) {
                if (auto done = addNatural(*from, *to, asked, setting, indirect); !done) {
                    return done;
                }
            } else {
                addLinear(*from, *to, setting, indirect);
            }
            if (firsts.empty()) {
                firsts = indirect;
                continue;
            }
            for (std::size_t k = 0; k < indirect.size() && k < firsts.size(); ++k) {
                Output difference;
                difference.kind = Output::Kind::Difference;
                difference.first = indirect[k];
                difference.second = firsts[k];
                TraceEffect effect = plan_.effects_[indirect[k]];
                effect.kind = "indirect-difference";
                put(difference, effect);
            }
        }
        return {};
    }

    [[nodiscard]] const std::string& nameOf(int node) const {
        return system_.nodes[static_cast<std::size_t>(node)].name;
    }

    /// An equation on the way is not linear.
    [[nodiscard]] bool isNatural(int from, int to) const {
        const auto above = reaching(to);
        std::vector<bool> below(system_.nodes.size(), false);
        below[static_cast<std::size_t>(from)] = true;
        for (const int v : plan_.upward_) {
            for (const int parent : system_.parents(v)) {
                below[static_cast<std::size_t>(v)] =
                    below[static_cast<std::size_t>(v)] || below[static_cast<std::size_t>(parent)];
            }
            const int equation = system_.nodes[static_cast<std::size_t>(v)].equation;
            if (v != from && equation >= 0 && below[static_cast<std::size_t>(v)] &&
                above[static_cast<std::size_t>(v)] &&
                !system_.equations[static_cast<std::size_t>(equation)].isLinear()) {
                return true;
            }
        }
        return false;
    }

    std::size_t put(const Output& output, TraceEffect effect) {
        plan_.outputs_.push_back(output);
        plan_.effects_.push_back(std::move(effect));
        return plan_.outputs_.size() - 1;
    }

    void addLinear(int from, int to, const ModeratorSetting& at,
                   std::vector<std::size_t>& indirect) {
        const std::size_t s = addSetting(at);
        const auto& arrows = plan_.settings_[s].arrows;
        TraceEffect effect;
        effect.from = nameOf(from);
        effect.to = nameOf(to);
        effect.at = at;
        Output output;
        output.setting = s;
        output.from = from;
        output.to = to;
        std::vector<std::vector<std::size_t>> ways;
        bool direct = false;
        std::vector<std::size_t> way;
        const auto above = reaching(to);
        const std::function<void(int)> walk = [&](int node) {
            for (std::size_t a = 0; a < arrows.size() && ways.size() <= kMostWays; ++a) {
                if (arrows[a].from != node || !above[static_cast<std::size_t>(arrows[a].to)]) {
                    continue;
                }
                way.push_back(a);
                if (arrows[a].to != to) {
                    walk(arrows[a].to);
                } else if (way.size() > 1) {
                    ways.push_back(way);
                } else {
                    direct = true;
                }
                way.pop_back();
            }
        };
        walk(from);
        std::size_t directAt = 0;
        if (direct) {
            output.kind = Output::Kind::Direct;
            effect.kind = "direct";
            for (std::size_t a = 0; a < arrows.size(); ++a) {
                if (arrows[a].from == from && arrows[a].to == to) {
                    output.way = {a};
                }
            }
            directAt = put(output, effect);
        }
        effect.kind = "indirect";
        if (ways.size() > kMostWays) {
            plan_.cutShort_ = true;
            ways.clear();
        }
        for (const auto& one : ways) {
            output.kind = Output::Kind::Way;
            output.way = one;
            effect.through.clear();
            for (std::size_t k = 0; k + 1 < one.size(); ++k) {
                effect.through.push_back(nameOf(arrows[one[k]].to));
            }
            indirect.push_back(put(output, effect));
        }
        effect.through.clear();
        output.way.clear();
        std::size_t throughAt = 0;
        const bool any = !ways.empty() || plan_.cutShort_;
        if (any) {
            output.kind = Output::Kind::Through;
            throughAt = put(output, effect);
            indirect.push_back(throughAt);
        }
        output.kind = Output::Kind::Total;
        effect.kind = "total";
        const std::size_t totalAt = put(output, effect);
        if (any) {
            addShare(effect, throughAt, totalAt, direct ? std::optional(directAt) : std::nullopt);
        }
    }

    void addShare(const TraceEffect& effect, std::size_t through, std::size_t total,
                  std::optional<std::size_t> direct) {
        Output output;
        output.kind = Output::Kind::Share;
        output.first = through;
        output.second = total;
        output.way = direct ? std::vector<std::size_t>{*direct} : std::vector<std::size_t>{};
        TraceShare share;
        share.from = effect.from;
        share.to = effect.to;
        share.at = effect.at;
        shares_.emplace_back(output, share);
    }

    Result<void> addNatural(int from, int to, const TracedPair& asked, const ModeratorSetting& at,
                            std::vector<std::size_t>& indirect) {
        const TraceNode& cause = system_.nodes[static_cast<std::size_t>(from)];
        const auto change = asked.change.value_or(
            cause.yesNo ? std::pair(0.0, 1.0)
                        : std::pair(cause.mean - 0.5 * cause.sd, cause.mean + 0.5 * cause.sd));
        std::vector<std::pair<int, double>> held;
        for (std::size_t v = 0; v < system_.nodes.size(); ++v) {
            for (const auto& [name, value] : at) {
                if (system_.nodes[v].name == name || system_.levelOf[v] == name) {
                    held.emplace_back(static_cast<int>(v), valueOf(static_cast<int>(v), at));
                }
            }
        }
        auto made = NaturalEffect::make(system_, from, to, change, held);
        if (!made) {
            return tl::make_unexpected(made.error());
        }
        TraceEffect effect;
        effect.from = nameOf(from);
        effect.to = nameOf(to);
        effect.at = at;
        effect.change = change;
        Output output;
        output.kind = Output::Kind::Natural;
        output.first = plan_.natural_.size();
        output.second = 0;
        effect.kind = "natural-direct";
        const std::size_t direct = put(output, effect);
        std::size_t through = 0;
        if (made->hasBetween()) {
            output.second = 1;
            effect.kind = "natural-indirect";
            through = put(output, effect);
            indirect.push_back(through);
        }
        output.second = 2;
        effect.kind = "total";
        const std::size_t total = put(output, effect);
        if (made->hasBetween()) {
            addShare(effect, through, total, direct);
        }
        plan_.natural_.push_back(*std::move(made));
        return {};
    }

    const PathSystem& system_;
    const TraceSpec& spec_;
    EffectPlan plan_;
    bool anyNatural_ = false;
    std::vector<std::pair<Output, TraceShare>> shares_;
};

Result<EffectPlan> EffectPlan::make(const PathSystem& system, const TraceSpec& spec) {
    return PlanMaker(system, spec).make();
}

VectorXd EffectPlan::sizes(const Setting& setting, const VectorXd& theta) const {
    VectorXd out = VectorXd::Zero(static_cast<Index>(setting.arrows.size()));
    for (std::size_t a = 0; a < setting.arrows.size(); ++a) {
        for (const Part& part : setting.arrows[a].parts) {
            out(static_cast<Index>(a)) += part.weight * theta(part.parameter);
        }
    }
    return out;
}

VectorXd EffectPlan::totalsFrom(const Setting& setting, const VectorXd& size, int from) const {
    VectorXd total = VectorXd::Zero(static_cast<Index>(system_->nodes.size()));
    total(from) = 1.0;
    for (const int v : upward_) {
        for (std::size_t a = 0; a < setting.arrows.size() && v != from; ++a) {
            if (setting.arrows[a].to == v) {
                total(v) += size(static_cast<Index>(a)) * total(setting.arrows[a].from);
            }
        }
    }
    return total;
}

VectorXd EffectPlan::totalsTo(const Setting& setting, const VectorXd& size, int to) const {
    VectorXd total = VectorXd::Zero(static_cast<Index>(system_->nodes.size()));
    total(to) = 1.0;
    for (auto v = upward_.rbegin(); v != upward_.rend(); ++v) {
        for (std::size_t a = 0; a < setting.arrows.size(); ++a) {
            if (setting.arrows[a].to == *v) {
                total(setting.arrows[a].from) += size(static_cast<Index>(a)) * total(*v);
            }
        }
    }
    return total;
}

VectorXd EffectPlan::at(const VectorXd& theta, const RowFacts& rows) const {
    std::vector<VectorXd> size;
    for (const Setting& setting : settings_) {
        size.push_back(sizes(setting, theta));
    }
    std::vector<Eigen::Vector3d> natural;
    for (const NaturalEffect& effect : natural_) {
        natural.push_back(effect.at(theta, rows));
    }
    VectorXd out(static_cast<Index>(outputs_.size()));
    for (std::size_t o = 0; o < outputs_.size(); ++o) {
        const Output& output = outputs_[o];
        const auto i = static_cast<Index>(o);
        const auto number = [&](std::size_t k) { return out(static_cast<Index>(k)); };
        const VectorXd& arrows = size[output.setting];
        const auto along = [&] {
            double product = 1.0;
            for (const std::size_t a : output.way) {
                product *= arrows(static_cast<Index>(a));
            }
            return product;
        };
        switch (output.kind) {
            case Output::Kind::Direct:
            case Output::Kind::Way:
                out(i) = along();
                break;
            case Output::Kind::Total:
            case Output::Kind::Through: {
                const Setting& setting = settings_[output.setting];
                out(i) = totalsFrom(setting, arrows, output.from)(output.to);
                for (std::size_t a = 0;
                     output.kind == Output::Kind::Through && a < setting.arrows.size(); ++a) {
                    if (setting.arrows[a].from == output.from &&
                        setting.arrows[a].to == output.to) {
                        out(i) -= arrows(static_cast<Index>(a));
                    }
                }
                break;
            }
            case Output::Kind::Difference:
                out(i) = number(output.first) - number(output.second);
                break;
            case Output::Kind::Share:
                out(i) = number(output.first) / number(output.second);
                break;
            case Output::Kind::Natural:
                out(i) = natural[output.first](static_cast<Index>(output.second));
                break;
        }
    }
    return out;
}

MatrixXd EffectPlan::slopes(const VectorXd& theta, const RowFacts& rows, const VectorXd& se) const {
    const Index K = theta.size();
    std::vector<VectorXd> size;
    for (const Setting& setting : settings_) {
        size.push_back(sizes(setting, theta));
    }
    const VectorXd value = at(theta, rows);
    MatrixXd out = MatrixXd::Zero(static_cast<Index>(outputs_.size()), K);
    const auto add = [&](Index row, const Setting& setting, std::size_t arrow, double slope) {
        for (const Part& part : setting.arrows[arrow].parts) {
            out(row, part.parameter) += slope * part.weight;
        }
    };
    // Of expected outcomes by a four-point rule: its error falls with the fourth power of a step
    // that is small against the standard error.
    std::vector<MatrixXd> natural(natural_.size(), MatrixXd::Zero(3, K));
    for (Index j = 0; j < K && !natural_.empty(); ++j) {
        const double step = 0.02 * (se(j) > 0.0 ? se(j) : std::max(std::abs(theta(j)), 1.0) * 1e-3);
        for (std::size_t k = 0; k < natural_.size(); ++k) {
            const auto moved = [&](double by) {
                VectorXd one = theta;
                one(j) += by;
                return natural_[k].at(one, rows);
            };
            natural[k].col(j) =
                (8.0 * (moved(step) - moved(-step)) - (moved(2.0 * step) - moved(-2.0 * step))) /
                (12.0 * step);
        }
    }
    for (std::size_t o = 0; o < outputs_.size(); ++o) {
        const Output& output = outputs_[o];
        const auto i = static_cast<Index>(o);
        const Setting& setting = settings_[output.setting];
        const VectorXd& arrows = size[output.setting];
        switch (output.kind) {
            case Output::Kind::Direct:
            case Output::Kind::Way:
                for (std::size_t k = 0; k < output.way.size(); ++k) {
                    double others = 1.0;
                    for (std::size_t l = 0; l < output.way.size(); ++l) {
                        others *= l == k ? 1.0 : arrows(static_cast<Index>(output.way[l]));
                    }
                    add(i, setting, output.way[k], others);
                }
                break;
            case Output::Kind::Total:
            case Output::Kind::Through: {
                const VectorXd down = totalsFrom(setting, arrows, output.from);
                const VectorXd up = totalsTo(setting, arrows, output.to);
                for (std::size_t a = 0; a < setting.arrows.size(); ++a) {
                    const auto& arrow = setting.arrows[a];
                    const bool direct = arrow.from == output.from && arrow.to == output.to;
                    // What leads back into the cause itself is no way of it.
                    if (arrow.to != output.from) {
                        const double slope = down(arrow.from) * up(arrow.to);
                        const bool off = direct && output.kind == Output::Kind::Through;
                        add(i, setting, a, slope - (off ? 1.0 : 0.0));
                    }
                }
                break;
            }
            case Output::Kind::Difference:
                out.row(i) = out.row(static_cast<Index>(output.first)) -
                             out.row(static_cast<Index>(output.second));
                break;
            case Output::Kind::Share:
                out.row(i) = (out.row(static_cast<Index>(output.first)) -
                              value(i) * out.row(static_cast<Index>(output.second))) /
                             value(static_cast<Index>(output.second));
                break;
            case Output::Kind::Natural:
                out.row(i) = natural[output.first].row(static_cast<Index>(output.second));
                break;
        }
    }
    return out;
}

bool EffectPlan::opposes(std::size_t share, const VectorXd& value) const {
    const Output& output = outputs_[effects_.size() + share];
    return !output.way.empty() &&
           value(static_cast<Index>(output.way.front())) * value(static_cast<Index>(output.first)) <
               0.0;
}

}  // namespace rapporto
