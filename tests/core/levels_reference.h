#pragma once

#include "tests/core/fixtures.h"

namespace rapporto::test {

/// The questions and tables that tests/reference/make_levels_reference.py worked out.
inline const nlohmann::json& levelsReference() {
    static const nlohmann::json kReference = readJson("tests/reference/levels_reference.json");
    return kReference;
}

/// The question of one of its cases: y by x and z with random effects.
inline Question questionOfLevels(const nlohmann::json& one) {
    Question q = explain("y", {"x", "z"});
    q.method = "multilevel";
    for (const nlohmann::json& level : one.at("levels")) {
        LevelSpec spec{level.at("by").get<std::string>()};
        spec.slopes = level.value("slopes", std::vector<std::string>{});
        spec.covariance = level.value("covariance", "full");
        q.settings.levels.push_back(std::move(spec));
    }
    q.settings.likelihood = one.at("restricted").get<bool>() ? "restricted" : "full";
    if (one.at("weighted").get<bool>()) {
        q.weightKind = WeightKind::Precision;
        q.weight = "v";
    }
    return q;
}

}  // namespace rapporto::test
