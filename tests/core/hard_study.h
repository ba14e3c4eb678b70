#pragma once

// A study that no format likes, and what reads documents back.
#include "core/report/report.h"
#include "tests/core/fixtures.h"

#include <pugixml.hpp>
#include <zip.h>

#include <map>
#include <random>

namespace rapporto::test {

/// The files of an archive by name.
inline std::map<std::string, std::string> unpacked(const std::string& bytes) {
    std::map<std::string, std::string> out;
    zip_error_t error;
    zip_source_t* from = zip_source_buffer_create(bytes.data(), bytes.size(), 0, &error);
    zip_t* archive = zip_open_from_source(from, ZIP_RDONLY, &error);
    if (archive == nullptr) {
        return out;
    }
    for (zip_int64_t i = 0; i < zip_get_num_entries(archive, 0); ++i) {
        zip_stat_t stat;
        zip_stat_index(archive, static_cast<zip_uint64_t>(i), 0, &stat);
        std::string text(stat.size, '\0');
        zip_file_t* file = zip_fopen_index(archive, static_cast<zip_uint64_t>(i), 0);
        zip_fread(file, text.data(), text.size());
        zip_fclose(file);
        out[stat.name] = text;
    }
    zip_discard(archive);
    return out;
}

/// All text under a node, in order.
inline std::string textOf(const pugi::xml_node& node) {
    std::string out;
    for (const pugi::xml_node child : node.children()) {
        out += child.type() == pugi::node_pcdata ? std::string(child.value()) : textOf(child);
    }
    return out;
}

inline std::size_t count(const pugi::xml_node& node, const std::string& name) {
    std::size_t n = 0;
    for (const pugi::xml_node child : node.children()) {
        n += (child.name() == name ? 1 : 0) + count(child, name);
    }
    return n;
}

/// Names and levels that no format takes as they are.
inline constexpr const char* kHard = "a|b <i>&amp; \"q\" 50% _x_ #1 {y} \\z ~ ^ `c` ü λ Ω 漢";

/// A study whose labels are hard, with `terms` terms, and its answers.
struct Hard {
    Study study;
    Table table;
    std::optional<Frame> frame;
    std::vector<Answer> answers;
    AnswersById byId;

    Hard(int terms, int questions) {
        std::mt19937 random(7);
        std::normal_distribution<double> normal;
        const std::size_t n = 200;
        std::vector<std::pair<std::string, std::vector<double>>> columns;
        std::vector<double> y(n, 0.0);
        for (int k = 0; k < terms; ++k) {
            std::vector<double> x(n);
            for (std::size_t i = 0; i < n; ++i) {
                x[i] = normal(random);
                y[i] += 0.1 * (k + 1) * x[i];
            }
            columns.emplace_back("x" + std::to_string(k), x);
        }
        for (double& v : y) {
            v += normal(random);
        }
        columns.emplace_back("y", y);
        std::vector<double> g(n);
        for (std::size_t i = 0; i < n; ++i) {
            g[i] = static_cast<double>(i % 3);
        }
        columns.emplace_back("g", g);
        table = tableOf(columns);
        table.variables.back().measure = Measure::Groups;
        for (Variable& variable : table.variables) {
            variable.label = variable.name + " " + kHard;
        }
        study.title = kHard;
        for (const Variable& variable : table.variables) {
            VariableEntry entry;
            entry.name = variable.name;
            entry.label = variable.label;
            if (variable.name == "g") {
                entry.levels = std::vector<Level>{{0.0, "nought"}, {1.0, kHard}, {2.0, "two"}};
            }
            study.variables.push_back(entry);
        }
        frame = Frame::make(table, study.variables, {}, {}, {});
        for (int k = 0; k < questions; ++k) {
            std::vector<std::string> names;
            for (int t = 0; t < std::max(2, terms - k); ++t) {
                names.push_back("x" + std::to_string(t));
            }
            names.emplace_back("g");
            Question q = explain("y", names);
            q.id = "q" + std::to_string(k + 1);
            q.title = "column " + std::to_string(k + 1) + " " + kHard;
            q.lead = k == 0;
            q.variantOf = k == 0 ? "" : "q1";
            q.allChecks = k == 0;
            study.questions.push_back(q);
        }
        answers.reserve(study.questions.size());
        for (const Question& q : study.questions) {
            answers.push_back(answerQuestion(study, *frame, q, Job()));
            byId[q.id] = &answers.back();
        }
    }

    [[nodiscard]] ReportPages pages() const { return reportPages(study, byId, &*frame); }
};

inline const Hard& hard() {
    static const Hard kStudy(60, 9);
    return kStudy;
}

}  // namespace rapporto::test
