#include "app/question/question_line.h"
#include "app/shell/finder.h"
#include "app/shell/number_marks.h"
#include "app/shell/theme.h"
#include "core/base/shown_names.h"
#include "core/model/estimator.h"
#include "core/report/request_wording.h"
#include "core/study/offered_methods.h"

#include <algorithm>
#include <set>
#include <tuple>

namespace rapporto::app {
namespace {

using PutLevels = std::function<void(std::vector<LevelSpec>, EstimatorSettings)>;
using PutErrors = std::function<void(const ErrorSpec&)>;

/// Groupings that rows are known to stand in first, then all there are.
std::vector<std::string> groupingsOf(Session& session) {
    const Question& q = *session.question();
    std::vector<std::string> names = q.fixedEffects;
    for (const std::string& one : q.errors.by) {
        names.push_back(one);
    }
    const Survey& survey = session.study().survey;
    for (const std::string& one : {survey.cluster, session.study().layout.unit, survey.strata}) {
        if (!one.empty()) {
            names.push_back(quotedName(one));
        }
    }
    const auto frame = session.frame();
    for (const Variable& v : frame ? frame->table().variables : std::vector<Variable>()) {
        if (isGrouping(v.measure) || frame->column(v.name)->isText()) {
            names.push_back(quotedName(v.name));
        }
    }
    return names;
}

/// Of each level in turn: what has a slope of its own in it, or has none any more, and leaving it.
std::vector<FinderEntry> slopesOffered(Session& session, const PutLevels& put) {
    std::vector<FinderEntry> entries;
    const Question& q = *session.question();
    const std::vector<LevelSpec>& levels = q.settings.levels;
    const auto frame = session.frame();
    for (std::size_t l = 0; l < levels.size(); ++l) {
        const QString by = termText(levels[l].by);
        for (const Term& term : q.terms) {
            const std::string name = term.parts.front();
            const Variable* v = frame ? frame->variable(canonicalText(name)) : nullptr;
            const bool groups = v != nullptr && (isGrouping(v->measure));
            if (term.muted || term.parts.size() > 1 || term.kind == Term::Kind::Set || groups) {
                continue;
            }
            std::vector<LevelSpec> next = levels;
            auto& slopes = next[l].slopes;
            const auto at = std::find(slopes.begin(), slopes.end(), name);
            const bool has = at != slopes.end();
            has ? void(slopes.erase(at)) : slopes.push_back(name);
            entries.push_back({(has ? QuestionLine::tr("one slope in %1 for all of %2")
                                    : QuestionLine::tr("a slope in %1 for each of %2"))
                                   .arg(termText(name), by),
                               has ? QuestionLine::tr("its effect does not differ among the groups")
                                   : QuestionLine::tr("its effect may differ among the groups"),
                               [put, next, settings = q.settings] { put(next, settings); }});
        }
        if (levels.size() > 1) {
            std::vector<LevelSpec> next = levels;
            next.erase(next.begin() + static_cast<std::ptrdiff_t>(l));
            entries.push_back({QuestionLine::tr("without random effects of %1").arg(by), QString(),
                               [put, next, settings = q.settings] { put(next, settings); }});
        }
    }
    return entries;
}

/// What the rows are drawn from, and by what errors and spreads are told.
std::vector<FinderEntry> lawsOffered(const Question& q, const PutLevels& put) {
    std::vector<FinderEntry> entries;
    const std::vector<LevelSpec>& levels = q.settings.levels;
    for (const auto& [law, name, why] :
         {std::tuple{"normal", QuestionLine::tr("of a quantity"),
                     QuestionLine::tr("a normal law of the rows")},
          std::tuple{"logit", QuestionLine::tr("of log odds"),
                     QuestionLine::tr("an outcome of yes or no")},
          std::tuple{"poisson", QuestionLine::tr("of the log of a count"),
                     QuestionLine::tr("Poisson’s law of the rows")}}) {
        if (q.settings.outcomeLaw != law) {
            EstimatorSettings settings;
            settings.outcomeLaw = law;
            entries.push_back({name, why, [put, levels, settings] { put(levels, settings); }});
        }
    }
    if (q.settings.outcomeLaw != "normal") {
        return entries;
    }
    for (const auto& [law, name, why] :
         {std::tuple{"satterthwaite", QuestionLine::tr("degrees of freedom by Satterthwaite"),
                     QuestionLine::tr("by the observed information")},
          std::tuple{"kenward-roger", QuestionLine::tr("errors adjusted for few groups"),
                     QuestionLine::tr("Kenward & Roger")},
          std::tuple{"normal", QuestionLine::tr("read by the normal law"),
                     QuestionLine::tr("where groups are many")}}) {
        if (q.settings.lawOfEffects != law) {
            EstimatorSettings settings = q.settings;
            settings.lawOfEffects = law;
            entries.push_back({name, why, [put, levels, settings] { put(levels, settings); }});
        }
    }
    EstimatorSettings other = q.settings;
    const bool restricted = other.likelihood != "full";
    other.likelihood = restricted ? "full" : "restricted";
    other.lawOfEffects =
        restricted && other.lawOfEffects == "kenward-roger" ? "satterthwaite" : other.lawOfEffects;
    entries.push_back({restricted ? QuestionLine::tr("spreads by the full likelihood")
                                  : QuestionLine::tr("spreads by the restricted likelihood"),
                       restricted ? QuestionLine::tr("to hold other terms against these")
                                  : QuestionLine::tr("spreads that know of the coefficients"),
                       [put, levels, other] { put(levels, other); }});
    return entries;
}

/// Errors shared within the groups of a variable: clustered, two ways, by wild draws.
std::vector<FinderEntry> clustersOffered(Session& session, const PutErrors& put) {
    std::vector<FinderEntry> entries;
    const auto frame = session.frame();
    if (!frame) {
        return entries;
    }
    const ErrorSpec present = session.question()->errors;
    for (const Variable& v : frame->table().variables) {
        if (isGrouping(v.measure) || v.measure == Measure::Count) {
            entries.push_back({QuestionLine::tr("clustered by %1").arg(text(v.name)), text(v.label),
                               [put, name = quotedName(v.name)] {
                                   put(ErrorSpec{"clustered", "HC1", {name}});
                               }});
            ErrorSpec wild{"bootstrap", "HC1", {}};
            wild.scheme = "wild-clusters";
            wild.by = {quotedName(v.name)};
            wild.draws = 9999;
            entries.push_back({QuestionLine::tr("wild draws by %1").arg(text(v.name)),
                               QuestionLine::tr("bootstrap of the clustered t: for few clusters"),
                               [put, wild] { put(wild); }});
            if (present.kind == "clustered" && present.by.size() == 1 &&
                plainName(present.by.front()) != v.name) {
                entries.push_back({QuestionLine::tr("clustered by %1 and %2")
                                       .arg(termText(present.by.front()), text(v.name)),
                                   QuestionLine::tr("two ways"),
                                   [put, a = present.by.front(), name = quotedName(v.name)] {
                                       put(ErrorSpec{"clustered", "HC1", {a, name}});
                                   }});
            }
        }
    }
    return entries;
}

}  // namespace

QString QuestionLine::lawFor(const Question& q) const {
    const auto frame = session_.frame();
    const Variable* outcome = frame ? frame->variable(canonicalText(q.outcome)) : nullptr;
    return outcome == nullptr                   ? "normal"
           : outcome->measure == Measure::YesNo ? "logit"
           : outcome->measure == Measure::Count ? "poisson"
                                                : "normal";
}

std::vector<FinderEntry> QuestionLine::groupMethods() const {
    std::vector<FinderEntry> entries;
    const Question& q = *session_.question();
    const PutLevels put = [this](std::vector<LevelSpec> levels, EstimatorSettings settings) {
        Question next = *session_.question();
        next.method = "multilevel";
        settings.levels = std::move(levels);
        next.settings = std::move(settings);
        // Its errors are its own, and what is random is not held fixed.
        next.errors = ErrorSpec{};
        next.fixedEffects.clear();
        session_.putQuestion(next, tr("by %1").arg(text(methodText(next))));
    };
    const bool asked = canTake(q.method, takes::kGroupsWhole);
    const std::vector<LevelSpec> levels = asked ? q.settings.levels : std::vector<LevelSpec>();
    const auto used = [&](const std::string& name) {
        return std::any_of(levels.begin(), levels.end(), [&](const LevelSpec& level) {
            return canonicalText(level.by) == canonicalText(name);
        });
    };
    constexpr std::size_t kMost = 6;
    std::set<std::string> offered;
    for (const std::string& name : groupingsOf(session_)) {
        if (offered.size() >= kMost || used(name) || !offered.insert(canonicalText(name)).second) {
            continue;
        }
        std::vector<LevelSpec> next = levels;
        next.push_back({name});
        entries.push_back(
            {asked ? tr("and random effects of %1").arg(termText(name))
                   : tr("random effects of %1").arg(termText(name)),
             asked ? tr("groups of groups: each lies within one of the next")
                   : tr("groups’ levels drawn from a normal law, kept as far as rows tell them"),
             [put, next, settings = q.settings, asked, law = lawFor(q)] {
                 EstimatorSettings fresh;
                 fresh.outcomeLaw = utf8(law);
                 put(next, asked ? settings : fresh);
             }});
    }
    if (asked) {
        for (const auto& further : {slopesOffered(session_, put), lawsOffered(q, put)}) {
            entries.insert(entries.end(), further.begin(), further.end());
        }
    }
    return entries;
}

void QuestionLine::pickMethod(QWidget* by) {
    std::vector<FinderEntry> entries;
    const auto put = [this](const std::string& method, const EstimatorSettings& settings) {
        Question next = *session_.question();
        next.method = method;
        next.settings = settings;
        session_.putQuestion(next, tr("by %1").arg(text(methodText(next))));
    };
    const auto frame = session_.frame();
    const auto answer = session_.answer();
    bool ofGroups = false;
    const auto addGroups = [&] {
        const std::vector<FinderEntry> groups = groupMethods();
        entries.insert(entries.end(), groups.begin(), groups.end());
        ofGroups = true;
    };
    for (const OfferedMethod& one :
         offeredMethods(session_.study(), frame.get(), *session_.question(), answer.get())) {
        // Random effects stand between what the outcome asks for and what rows in time allow.
        if (one.place >= OfferedMethod::Place::Time && !ofGroups) {
            addGroups();
        }
        entries.push_back(
            {text(one.label), numbered(one.why), [put, one] { put(one.method, one.settings); }});
    }
    if (!ofGroups) {
        addGroups();
    }
    finder_->open(by->mapToGlobal(QPoint(0, by->height() + 3)), 380, tr("how it is estimated"),
                  std::move(entries));
    actOnThisQuestion();
}

void QuestionLine::pickErrors(QWidget* by) {
    std::vector<FinderEntry> entries;
    const PutErrors put = [this](const ErrorSpec& spec) {
        Question next = *session_.question();
        next.errors = spec;
        session_.putQuestion(next, tr("errors %1").arg(text(spec.shown())));
    };
    entries.push_back(
        {tr("classical"), tr("one spread, unrelated errors"), [put] { put(ErrorSpec{}); }});
    if (session_.question()->method == "quantile") {
        entries.push_back(
            {tr("by the sandwich (kernel)"), tr("the density may differ by row"), [put] {
                 put(ErrorSpec{"kernel", "HC1", {}});
             }});
    }
    const std::vector<std::pair<std::string, QString>> kinds = {
        {"HC3", tr("cautious in small samples")},
        {"HC1", tr("n/(n − k)")},
        {"HC0", tr("White 1980")},
        {"HC2", tr("by leverage")},
        {"HC4", tr("by strong leverage")}};
    for (const auto& [type, why] : kinds) {
        entries.push_back({tr("robust (%1)").arg(text(type)), why, [put, t = type] {
                               put(ErrorSpec{"robust", t, {}});
                           }});
    }
    if (session_.study().layout.kind == Layout::Kind::Series) {
        ErrorSpec spec{"autocorrelation", "HC1", {}};
        entries.push_back({tr("allowing for autocorrelation"),
                           tr("Newey–West, lags by the rule of thumb"),
                           [put, spec] { put(spec); }});
        spec.automaticLags = true;
        entries.push_back({tr("allowing for autocorrelation, lags by the data"),
                           tr("Newey & West 1994"), [put, spec] { put(spec); }});
    }
    const Survey& survey = session_.study().survey;
    if (survey.isDeclared()) {
        entries.push_back(
            {tr("by the survey design"), tr("strata, clusters and weights, linearised"), [put] {
                 put(ErrorSpec{"survey", "HC1", {}});
             }});
    }
    if (session_.study().layout.kind == Layout::Kind::Panel) {
        entries.push_back(
            {tr("shared at a moment and echoing"), tr("Driscoll & Kraay 1998"), [put] {
                 put(ErrorSpec{"panel-autocorrelation", "HC1", {}});
             }});
    }
    ErrorSpec drawn{"bootstrap", "HC1", {}};
    entries.push_back({tr("drawing rows anew"), tr("bootstrap, 1 999 draws, percentile intervals"),
                       [put, drawn] { put(drawn); }});
    drawn.interval = "bca";
    entries.push_back({tr("drawing rows anew, BCa"), tr("intervals corrected for bias and skew"),
                       [put, drawn] { put(drawn); }});
    drawn.interval = "percentile";
    drawn.scheme = "wild";
    entries.push_back({tr("wild draws"), tr("signs drawn anew: for an uneven spread"),
                       [put, drawn] { put(drawn); }});
    for (FinderEntry& one : clustersOffered(session_, put)) {
        entries.push_back(std::move(one));
    }
    finder_->open(by->mapToGlobal(QPoint(0, by->height() + 3)), 380, tr("how the errors behave"),
                  std::move(entries));
    actOnThisQuestion();
}

void QuestionLine::pickWeights(QWidget* by) {
    const auto put = [this](WeightKind kind, const std::string& name) {
        Question next = *session_.question();
        next.weightKind = kind;
        next.weight = name;
        session_.putQuestion(next, kind == WeightKind::None ? tr("no weights")
                                                            : tr("weighted by %1").arg(text(name)));
    };
    std::vector<FinderEntry> entries = {
        {tr("no weights"), {}, [put] { put(WeightKind::None, {}); }}};
    if (const auto frame = session_.frame()) {
        for (const Variable& v : frame->table().variables) {
            if (!frame->column(v.name)->isText()) {
                for (const WeightKind kind :
                     {WeightKind::Sampling, WeightKind::Frequency, WeightKind::Precision}) {
                    entries.push_back(
                        {text(v.name), text(weightName(kind)),
                         [put, kind, name = quotedName(v.name)] { put(kind, name); }});
                }
            }
        }
    }
    finder_->open(by->mapToGlobal(QPoint(0, by->height() + 3)), 380,
                  tr("weight: a variable and its kind"), std::move(entries));
    actOnThisQuestion();
}

}  // namespace rapporto::app
