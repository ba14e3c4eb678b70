#include "core/study/estimator_codec.h"

#include "core/model/estimator.h"
#include "core/model/method_uses.h"
#include "core/model/setting.h"

namespace rapporto {
namespace {

using Json = nlohmann::ordered_json;

/// “"a", "b" or "c"”.
std::string choiceOf(const std::vector<const char*>& words) {
    std::string list;
    for (std::size_t k = 0; k < words.size(); ++k) {
        list += (k == 0                  ? ""
                 : k + 1 == words.size() ? " or "
                                         : ", ") +
                ("\"" + std::string(words[k]) + "\"");
    }
    return list;
}

std::string wholeFrom(const Setting& setting) {
    return fmt::format("‘{}’ is a whole number from {:.0f} to {:.0f}", setting.key, setting.least,
                       setting.most);
}

LevelSpec readLevel(const Json& json, JsonReader& in) {
    static const std::vector<const char*> kCovariances = {"full", "diagonal"};
    JsonReader level(json, "levels");
    LevelSpec spec;
    spec.by = level.text("by");
    spec.slopes = level.texts("slopes", most::kParts);
    spec.covariance = level.text("covariance", spec.covariance);
    if (std::find(kCovariances.begin(), kCovariances.end(), spec.covariance) ==
        kCovariances.end()) {
        level.fault("‘covariance’ is " + choiceOf(kCovariances));
    }
    if (spec.by.empty()) {
        level.fault("a level names its grouping: ‘by’");
    }
    in.close(level);
    return spec;
}

/// Reads a setting into the member of its type.
class SettingReader {
  public:
    SettingReader(JsonReader& in, const Setting& setting, EstimatorSettings& into)
        : in_(in), setting_(setting), into_(into) {}

    /// It is one number and nothing else.
    void operator()(std::monostate /*none*/) {
        if (in_.number(setting_.key, setting_.least) != setting_.least) {
            wrong({});
        }
    }

    void operator()(std::string EstimatorSettings::*member) {
        std::string& value = into_.*member;
        value = in_.text(setting_.key, value);
        const auto& words = setting_.words;
        if (!words.empty() && std::find(words.begin(), words.end(), value) == words.end()) {
            wrong(fmt::format("‘{}’ is {}", setting_.key, choiceOf(words)));
        }
        needed(value.empty());
    }

    void operator()(int EstimatorSettings::*member) {
        const double value = in_.number(setting_.key, into_.*member);
        if (isWithin(value) && value == std::floor(value)) {
            into_.*member = static_cast<int>(value);
        } else {
            wrong(wholeFrom(setting_));
        }
    }

    void operator()(bool EstimatorSettings::*member) {
        into_.*member = in_.flag(setting_.key, into_.*member);
    }

    void operator()(double EstimatorSettings::*member) {
        const double value = in_.number(setting_.key, into_.*member);
        if (isWithin(value)) {
            into_.*member = value;
        } else {
            wrong(fmt::format("‘{}’ is a number from {:g} to {:g}", setting_.key, setting_.least,
                              setting_.most));
        }
    }

    void operator()(std::optional<double> EstimatorSettings::*member) {
        const double value = in_.number(setting_.key, 0.0);
        if (in_.has(setting_.key)) {
            into_.*member = value;
        }
    }

    void operator()(std::vector<double> EstimatorSettings::*member) {
        for (const Json* one : in_.list(setting_.key, most::kRequests)) {
            if (one->is_number() && *one > setting_.least && *one < setting_.most) {
                (into_.*member).push_back(one->get<double>());
            } else {
                wrong(fmt::format("‘{}’ lists numbers", setting_.key));
            }
        }
        needed(in_.has(setting_.key) && (into_.*member).empty());
    }

    void operator()(std::vector<std::string> EstimatorSettings::*member) {
        into_.*member = in_.texts(setting_.key);
    }

    void operator()(std::vector<LevelSpec> EstimatorSettings::*member) {
        for (const Json* one : in_.list(setting_.key, most::kParts)) {
            (into_.*member).push_back(readLevel(*one, in_));
        }
        needed((into_.*member).empty());
    }

  private:
    [[nodiscard]] bool isWithin(double value) const {
        return value >= setting_.least && value <= setting_.most;
    }

    void wrong(const std::string& plainly) {
        in_.fault(setting_.wrong != nullptr ? setting_.wrong : plainly, setting_.help);
    }

    void needed(bool lacks) {
        if (lacks && setting_.needed != nullptr) {
            in_.fault(setting_.needed, setting_.help);
        }
    }

    JsonReader& in_;
    const Setting& setting_;
    EstimatorSettings& into_;
};

/// A setting as the file has it; null where there is nothing to write.
class SettingWriter {
  public:
    SettingWriter(const Setting& setting, const EstimatorSettings& from)
        : setting_(setting), from_(from) {}

    Json operator()(std::monostate /*none*/) const { return static_cast<int>(setting_.least); }

    template <class T>
    Json operator()(T EstimatorSettings::*member) const {
        return from_.*member;
    }

    Json operator()(std::optional<double> EstimatorSettings::*member) const {
        return from_.*member ? Json(*(from_.*member)) : Json();
    }

    Json operator()(std::vector<double> EstimatorSettings::*member) const {
        return (from_.*member).empty() ? setting_.instead : from_.*member;
    }

    Json operator()(std::vector<LevelSpec> EstimatorSettings::*member) const {
        Json out = Json::array();
        for (const LevelSpec& level : from_.*member) {
            Json one = {{"by", level.by}};
            if (!level.slopes.empty()) {
                one["slopes"] = level.slopes;
                one["covariance"] = level.covariance;
            }
            out.push_back(std::move(one));
        }
        return out;
    }

  private:
    const Setting& setting_;
    const EstimatorSettings& from_;
};

}  // namespace

void readEstimator(const Json& json, Question& question, JsonReader& in) {
    if (json.is_null()) {
        return;
    }
    JsonReader estimator(json, "estimator");
    question.method = estimator.text("method", question.method);
    const Estimator* method = findEstimator(question.method);
    if (method == nullptr) {
        estimator.fault("there is no method ‘" + question.method + "’");
        in.close(estimator);
        return;
    }
    if (method->settings != nullptr) {
        const SettingsSpec& spec = method->settings();
        for (const Setting& setting : spec.settings) {
            std::visit(SettingReader(estimator, setting, question.settings), setting.member);
        }
        const char* together =
            spec.together != nullptr ? spec.together(question.settings) : nullptr;
        if (together != nullptr) {
            estimator.fault(together);
        }
    }
    for (const auto& key : estimator.unknown()) {
        const std::string others = methodsWithSetting(key);
        if (!others.empty()) {
            estimator.fault("the method ‘" + question.method + "’ has no setting ‘" + key + "’",
                            "It belongs to " + others + ".");
        }
    }
    in.close(estimator);
}

Json estimatorJson(const Question& question) {
    Json json{{"method", question.method}};
    const Estimator* method = findEstimator(question.method);
    if (method == nullptr || method->settings == nullptr) {
        return json;
    }
    for (const Setting& setting : method->settings().settings) {
        if (setting.written != nullptr && !setting.written(question.settings)) {
            continue;
        }
        Json value = std::visit(SettingWriter(setting, question.settings), setting.member);
        if (!value.is_null()) {
            json[setting.key] = std::move(value);
        }
    }
    return json;
}

}  // namespace rapporto
