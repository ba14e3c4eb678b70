#include "core/paths/trace_edits.h"

#include "core/expression/expression.h"
#include "core/paths/trace_kind.h"

#include <algorithm>

namespace rapporto {
namespace {

bool names(const Term& term, const std::string& name) {
    return std::any_of(term.parts.begin(), term.parts.end(),
                       [&](const std::string& part) { return canonicalText(part) == name; });
}

bool stands(const std::vector<Term>& terms, const std::string& name) {
    return std::any_of(terms.begin(), terms.end(), [&](const Term& term) {
        return term.kind == Term::Kind::Expression && canonicalText(term.parts.front()) == name;
    });
}

void put(std::vector<Term>& terms, const std::string& name) {
    if (!stands(terms, canonicalText(name))) {
        terms.push_back(Term::expression(name));
    }
}

PathSpec* pathTo(TraceSpec& spec, const std::string& name) {
    const std::string to = canonicalText(name);
    for (PathSpec& path : spec.paths) {
        if (canonicalText(path.to) == to) {
            return &path;
        }
    }
    return nullptr;
}

/// Without an outcome yet, the causes wait in a path that leads nowhere.
PathSpec& open(TraceSpec& spec) {
    if (PathSpec* path = pathTo(spec, "")) {
        return *path;
    }
    return spec.paths.emplace_back();
}

void ask(TraceSpec& spec, const std::string& from, const std::string& to) {
    const bool there =
        std::any_of(spec.effects.begin(), spec.effects.end(), [&](const TracedPair& pair) {
            return canonicalText(pair.from) == canonicalText(from) &&
                   canonicalText(pair.to) == canonicalText(to);
        });
    if (!there && !to.empty()) {
        spec.effects.push_back(tracedPair(canonicalText(from), canonicalText(to)));
    }
}

}  // namespace

TracedPair tracedPair(std::string from, std::string to, std::vector<ModeratorValues> at,
                      std::optional<std::pair<double, double>> change) {
    TracedPair made;
    made.from = std::move(from);
    made.to = std::move(to);
    made.at = std::move(at);
    made.change = change;
    return made;
}

void addCause(TraceSpec& spec, const std::string& name) {
    const TraceRoles roles = traceRoles(spec);
    // What is asked for so far stays asked, by name.
    if (spec.effects.empty()) {
        for (const std::string& cause : roles.causes) {
            for (const std::string& outcome : roles.outcomes) {
                ask(spec, cause, outcome);
            }
        }
    }
    if (spec.paths.empty()) {
        open(spec);
    }
    for (PathSpec& path : spec.paths) {
        put(path.from, name);
    }
    for (const std::string& outcome : roles.outcomes) {
        ask(spec, name, outcome);
    }
}

void addOutcome(TraceSpec& spec, const std::string& name) {
    const TraceRoles roles = traceRoles(spec);
    PathSpec path;
    path.to = name;
    if (PathSpec* waiting = pathTo(spec, "")) {
        path.from = waiting->from;
        *waiting = path;
    } else {
        for (const auto* list : {&roles.causes, &roles.between, &roles.beside}) {
            for (const std::string& one : *list) {
                put(path.from, one);
            }
        }
        spec.paths.push_back(path);
    }
    for (const std::string& cause : roles.causes) {
        ask(spec, cause, name);
    }
}

void addBetween(TraceSpec& spec, const std::string& name) {
    const TraceRoles roles = traceRoles(spec);
    if (PathSpec* own = pathTo(spec, name); own == nullptr) {
        PathSpec path;
        path.to = name;
        for (const auto* list : {&roles.causes, &roles.beside}) {
            for (const std::string& one : *list) {
                if (canonicalText(one) != canonicalText(name)) {
                    put(path.from, one);
                }
            }
        }
        // Before the outcomes, so that the equations read in their order.
        const auto at = std::find_if(spec.paths.begin(), spec.paths.end(), [&](const PathSpec& p) {
            return std::find(roles.outcomes.begin(), roles.outcomes.end(), canonicalText(p.to)) !=
                   roles.outcomes.end();
        });
        spec.paths.insert(at, std::move(path));
    }
    for (const std::string& outcome : roles.outcomes) {
        if (PathSpec* path = pathTo(spec, outcome)) {
            put(path->from, name);
        }
    }
    for (const std::string& cause : roles.causes) {
        for (const std::string& outcome : roles.outcomes) {
            ask(spec, cause, outcome);
        }
    }
}

void addBeside(TraceSpec& spec, const std::string& name) {
    const TraceRoles roles = traceRoles(spec);
    for (const std::string& cause : roles.causes) {
        for (const std::string& outcome : roles.outcomes) {
            ask(spec, cause, outcome);
        }
    }
    if (spec.paths.empty()) {
        open(spec);
    }
    for (PathSpec& path : spec.paths) {
        if (canonicalText(path.to) != canonicalText(name)) {
            put(path.from, name);
        }
    }
}

void addDropped(TraceSpec& spec, const std::string& name) {
    const TraceRoles roles = traceRoles(spec);
    if (roles.causes.empty()) {
        addCause(spec, name);
    } else if (roles.outcomes.empty()) {
        addOutcome(spec, name);
    } else {
        addBetween(spec, name);
    }
}

void drawPath(TraceSpec& spec, const std::string& from, const std::string& to) {
    if (PathSpec* path = pathTo(spec, to)) {
        put(path->from, from);
        return;
    }
    PathSpec path;
    path.to = to;
    put(path.from, from);
    // It was a cause, and is explained now: before what it explains.
    spec.paths.insert(spec.paths.begin(), std::move(path));
}

void removePath(TraceSpec& spec, const std::string& from, const std::string& to) {
    if (PathSpec* path = pathTo(spec, to)) {
        std::erase_if(path->from, [&](const Term& term) {
            return term.kind != Term::Kind::Set && names(term, canonicalText(from));
        });
        // What nothing explains any more is a cause again, unless it is what is to be reached.
        const bool last = traceRoles(spec).outcomes.size() == 1 &&
                          traceRoles(spec).outcomes.front() == canonicalText(to);
        if (path->from.empty() && !last) {
            std::erase_if(spec.paths, [&](const PathSpec& one) {
                return canonicalText(one.to) == canonicalText(to);
            });
        }
    }
    std::erase_if(spec.effects, [&](const TracedPair& pair) {
        const TraceRoles roles = traceRoles(spec);
        const auto has = [&](const std::vector<std::string>& list, const std::string& name) {
            return std::find(list.begin(), list.end(), canonicalText(name)) != list.end();
        };
        return !has(roles.outcomes, pair.to) && !has(roles.between, pair.to);
    });
}

void turnPath(TraceSpec& spec, const std::string& from, const std::string& to) {
    removePath(spec, from, to);
    drawPath(spec, to, from);
}

void removeNode(TraceSpec& spec, const std::string& name) {
    const std::string gone = canonicalText(name);
    const TraceRoles roles = traceRoles(spec);
    if (roles.outcomes == std::vector<std::string>{gone}) {
        // The causes wait for another outcome.
        pathTo(spec, gone)->to.clear();
    }
    std::erase_if(spec.paths, [&](const PathSpec& path) { return canonicalText(path.to) == gone; });
    for (PathSpec& path : spec.paths) {
        std::erase_if(path.from, [&](const Term& term) {
            return term.kind != Term::Kind::Set && names(term, gone);
        });
    }
    std::erase_if(spec.holding, [&](const Term& term) { return names(term, gone); });
    std::erase_if(spec.effects, [&](const TracedPair& pair) {
        return canonicalText(pair.from.substr(0, levelAt(pair.from))) == gone ||
               canonicalText(pair.to) == gone;
    });
    for (TracedPair& pair : spec.effects) {
        std::erase_if(pair.at,
                      [&](const ModeratorValues& one) { return canonicalText(one.name) == gone; });
    }
    std::erase_if(spec.muted, [&](const std::string& one) { return canonicalText(one) == gone; });
    spec.places.erase(gone);
}

void muteNode(TraceSpec& spec, const std::string& name) {
    if (isMuted(spec, name)) {
        std::erase_if(spec.muted, [&](const std::string& one) {
            return canonicalText(one) == canonicalText(name);
        });
    } else {
        spec.muted.push_back(name);
    }
}

bool isMuted(const TraceSpec& spec, const std::string& name) {
    return std::any_of(spec.muted.begin(), spec.muted.end(), [&](const std::string& one) {
        return canonicalText(one) == canonicalText(name);
    });
}

}  // namespace rapporto
