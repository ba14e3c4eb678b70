// Free text of the report: paragraphs, headings, points, and fields whose numbers follow.
#include "core/base/format.h"
#include "core/report/report_fields.h"
#include "core/report/report_items.h"
#include "core/report/wording.h"

#include <algorithm>
#include <cmath>

namespace rapporto {
namespace {

using Kind = ReportBlock::Kind;

const Coefficient* effectNamed(const Answer& answer, const std::string& term) {
    if (!answer.fit) {
        return nullptr;
    }
    const auto& list = answer.fit->coefficients;
    const auto found = std::find_if(list.begin(), list.end(), [&](const Coefficient& c) {
        return c.term == term || c.label == term;
    });
    return found == list.end() ? nullptr : &*found;
}

std::string ofEffect(const std::string& what, const Coefficient& c, const Answer& answer,
                     double alpha) {
    const auto number = [&](double value) { return fixedNumber(value, decimalsFor(c.se), true); };
    if (what == "effect") {
        return number(c.estimate);
    }
    if (what == "error") {
        return number(c.se);
    }
    if (what == "interval") {
        return percentLevel(alpha) + ": " + number(c.low) + " to " + number(c.high);
    }
    if (what == "p") {
        return c.p ? pClause(*c.p) : "no p";
    }
    if (!isOfLogs(answer)) {
        return {};  // Of what is no logarithm there is neither percent nor ratio.
    }
    return what == "percent" ? shortNumber(100.0 * std::expm1(c.estimate), 3) + " %"
           : what == "ratio" ? shortNumber(std::exp(c.estimate), 3)
                             : std::string();
}

std::string ofAnswer(const std::string& what, const Answer& answer) {
    if (what == "rows") {
        return countText(answer.rows.used);
    }
    if (what == "outcome") {
        return answer.design ? answer.design->outcome : std::string();
    }
    if (!answer.fit) {
        return {};
    }
    const FitStatistics& s = answer.fit->statistics;
    if (what == "R²" || what == "r_squared") {
        return s.rSquared ? fixedNumber(*s.rSquared, 3, true) : std::string();
    }
    return what == "σ" || what == "sigma" ? shortNumber(s.sigma, 3) : std::string();
}

/// The question named by its title or its id.
const Answer* answerNamed(const AnswersById& answers, const std::string& name) {
    for (const auto& [id, answer] : answers) {
        if (id == name || questionTitle(*answer) == name) {
            return answer;
        }
    }
    return nullptr;
}

}  // namespace

std::optional<std::string> fieldValue(const std::string& field, const AnswersById& answers,
                                      double alpha) {
    const std::size_t in = field.rfind(" in ");
    if (in == std::string::npos) {
        return std::nullopt;
    }
    const Answer* answer = answerNamed(answers, field.substr(in + 4));
    if (answer == nullptr || answer->refusal) {
        return std::nullopt;
    }
    const std::string what = field.substr(0, in);
    std::string value;
    if (const std::size_t of = what.find(" of "); of != std::string::npos) {
        const Coefficient* c = effectNamed(*answer, what.substr(of + 4));
        value = c == nullptr ? std::string() : ofEffect(what.substr(0, of), *c, *answer, alpha);
    } else {
        value = ofAnswer(what, *answer);
    }
    return value.empty() ? std::nullopt : std::optional(value);
}

std::string withFields(const std::string& text, const AnswersById& answers, double alpha,
                       const ReportDress& dress) {
    std::string out;
    for (std::size_t at = 0; at < text.size();) {
        const std::size_t open = text.find('{', at);
        const std::size_t close = open == std::string::npos ? open : text.find('}', open);
        if (close == std::string::npos) {
            return out + text.substr(at);
        }
        out += text.substr(at, open - at);
        const auto value = fieldValue(text.substr(open + 1, close - open - 1), answers, alpha);
        out += value ? dressed(*value, dress) : "[" + text.substr(open, close - open + 1) + "?]";
        at = close + 1;
    }
    return out;
}

std::vector<ReportField> reportFields(const AnswersById& answers, double alpha) {
    std::vector<ReportField> fields;
    for (const auto& [id, answer] : answers) {
        if (answer->refusal || !answer->fit) {
            continue;
        }
        const auto add = [&, id = id](const std::string& what) {
            const std::string field = what + " in " + id;
            if (field.find_first_of("{}\n") != std::string::npos) {
                return;
            }
            if (const auto value = fieldValue(field, answers, alpha)) {
                fields.push_back({"{" + field + "}", *value});
            }
        };
        for (const ComparedEffect& one : comparedEffects(*answer->fit)) {
            for (const char* what : {"effect", "interval", "p"}) {
                add(std::string(what) + " of " + one.effect->term);
            }
            if (isOfLogs(*answer)) {
                add("percent of " + one.effect->term);
            }
        }
        add("rows");
        add("R²");
    }
    return fields;
}

void addText(const ItemInput& in) {
    const std::string text =
        withFields(in.item.text, in.all, in.study.alpha, dressOf(in.study.reportStyle));
    std::string paragraph;
    const auto flush = [&] {
        if (!paragraph.empty()) {
            in.sheet.put(Kind::Paragraph, std::exchange(paragraph, {}), "text");
        }
    };
    std::size_t at = 0;
    while (at <= text.size()) {
        std::size_t end = text.find('\n', at);
        end = end == std::string::npos ? text.size() : end;
        const std::string line = text.substr(at, end - at);
        at = end + 1;
        if (line.find_first_not_of(" \t\r") == std::string::npos) {
            flush();
        } else if (line.starts_with("# ")) {
            flush();
            in.sheet.put(Kind::Heading, line.substr(2), "text");
        } else if (line.starts_with("- ")) {
            flush();
            in.sheet.put(Kind::Bullet, line.substr(2), "text");
        } else {
            paragraph += (paragraph.empty() ? "" : " ") + line;
        }
    }
    flush();
}

}  // namespace rapporto
