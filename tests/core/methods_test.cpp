// What a method is: its line in the registry, its settings in a study file, its family, its name
// with settings, and what it offers itself for.
#include "core/model/estimator.h"
#include "core/model/setting.h"
#include "core/numerics/random.h"
#include "core/study/estimator_codec.h"
#include "core/study/offered_methods.h"
#include "tests/core/fixtures.h"

#include <QTest>

#include <set>

using namespace rapporto;
using namespace rapporto::test;
using Json = nlohmann::ordered_json;

namespace {

/// What a study file's `estimator` is read as; what was wrong goes into `refused`.
Question readFrom(const Json& estimator, std::string& refused) {
    const Json question = {{"estimator", estimator}};
    JsonReader in(question, "the question");
    Question out;
    readEstimator(in.at("estimator"), out, in);
    refused = in.refusal() ? in.refusal()->text() : "";
    return out;
}

/// A value of the setting that is allowed.
class AllowedValue {
  public:
    AllowedValue(const Setting& setting, RandomStream& random)
        : setting_(setting), random_(random) {}

    Json operator()(std::monostate /*none*/) const { return setting_.least; }

    Json operator()(std::string EstimatorSettings::* /*member*/) const {
        return setting_.words.empty() ? "hives" : setting_.words[below(setting_.words.size())];
    }

    Json operator()(int EstimatorSettings::* /*member*/) const {
        return static_cast<int>(setting_.least) +
               static_cast<int>(
                   below(static_cast<std::size_t>(setting_.most - setting_.least) + 1));
    }

    Json operator()(bool EstimatorSettings::* /*member*/) const { return below(2) == 0; }

    Json operator()(double EstimatorSettings::* /*member*/) const {
        return setting_.least + (setting_.most - setting_.least) * random_.uniform();
    }

    Json operator()(std::optional<double> EstimatorSettings::* /*member*/) const {
        return random_.uniform() - 0.5;
    }

    Json operator()(std::vector<double> EstimatorSettings::* /*member*/) const {
        return Json::array({0.1 + 0.8 * random_.uniform()});
    }

    Json operator()(std::vector<std::string> EstimatorSettings::* /*member*/) const {
        return Json::array({"hives", "ln(age)"});
    }

    Json operator()(std::vector<LevelSpec> EstimatorSettings::* /*member*/) const {
        return Json::array({Json{{"by", "village"}, {"slopes", {"hives"}}, {"covariance", "full"}},
                            Json{{"by", "zone"}}});
    }

  private:
    [[nodiscard]] std::size_t below(std::size_t n) const { return random_.below(n); }

    const Setting& setting_;
    RandomStream& random_;
};

/// An outcome of each measure, a lack, upper ends, a panel.
Table outcomes() {
    std::vector<double> amount, count, no, rank, kind, share, some, from, to, unit, year;
    for (int i = 0; i < 60; ++i) {
        amount.push_back(std::sin(i) + 3.0);
        count.push_back(i % 5);
        no.push_back(i % 3 == 0 ? 1.0 : 0.0);
        rank.push_back(i % 4);
        kind.push_back(i % 3);
        share.push_back(i % 10 / 10.0);
        some.push_back(i % 6 == 0 ? std::nan("") : std::cos(i));
        from.push_back(i);
        to.push_back(i + i % 3);
        unit.push_back(i / 6);
        year.push_back(2010 + i % 6);
    }
    Table t = tableOf({{"amount", amount},
                       {"count", count},
                       {"no", no},
                       {"rank", rank},
                       {"kind", kind},
                       {"share", share},
                       {"some", some},
                       {"wage_from", from},
                       {"wage_to", to},
                       {"unit", unit},
                       {"year", year}});
    t.variables[1].measure = Measure::Count;
    t.variables[2].measure = Measure::YesNo;
    t.variables[3].measure = Measure::OrderedGroups;
    t.variables[4].measure = Measure::Groups;
    return t;
}

}  // namespace

class MethodsTest : public QObject {
    Q_OBJECT

    static std::set<std::string> offered(const Question& q, const Study& study = {}) {
        const Table t = outcomes();
        const Frame frame = Frame::make(t, {}, {}, {}, study.layout);
        const Answer a = answer(t, q, study.layout);
        std::set<std::string> out;
        std::set<std::string> labels;
        for (const OfferedMethod& one : offeredMethods(study, &frame, q, &a)) {
            out.insert(one.method);
            if (one.why.empty() || !labels.insert(one.label).second) {
                out.insert("no reason, or twice: " + one.label);
            }
        }
        return out;
    }

    static bool holds(const std::set<std::string>& all, const std::set<std::string>& some) {
        return std::includes(all.begin(), all.end(), some.begin(), some.end());
    }

  private slots:

    void eachLineIsWhole() {
        std::set<std::string> names;
        std::set<const Family*> families;
        for (const Estimator& e : allEstimators()) {
            QVERIFY2(names.insert(e.method).second, e.method);
            QVERIFY2(e.shown != nullptr && e.estimate != nullptr, e.method);
            QVERIFY2(e.family == nullptr || families.insert(e.family).second, e.method);
            QCOMPARE(findEstimator(e.method), &e);
            QCOMPARE(familyOf(e.method), e.family);
            // What implies what.
            QVERIFY2(!e.has(trait::kOwnPast) ||
                         (e.has(trait::kUnits | trait::kMoments) && e.canTake(takes::kInstruments)),
                     e.method);
            QVERIFY2(!e.has(trait::kByInstruments) || e.canTake(takes::kInstruments), e.method);
            QVERIFY2(!e.has(trait::kOwnColumns) || e.has(trait::kByLeast), e.method);
            QVERIFY2(!e.canTake(takes::kExposure) || e.family != nullptr, e.method);
            QVERIFY2(e.family == nullptr || !e.canTake(takes::kPrecision), e.method);
        }
        QVERIFY(findEstimator("no such thing") == nullptr);
        QVERIFY(familyOf("no such thing") == nullptr);
        QVERIFY(!hasTrait("no such thing", trait::kUnits));
        QVERIFY(!canTake("no such thing", takes::kInstruments));
        QVERIFY(Question().byLeastSquares());
    }

    /// What is asked of a family goes together.
    void familiesAgreeWithTheirWords() {
        using Outcome = Family::Outcome;
        int poisson = 0;
        for (const Estimator& e : allEstimators()) {
            if (e.family == nullptr) {
                continue;
            }
            const Family& f = *e.family;
            const std::string scale = f.scale;
            QVERIFY2(f.inLogs() == (scale.starts_with("ln") || scale.starts_with("log")), e.method);
            QVERIFY2(f.outcome == Outcome::Groups || f.inLogs() == (*f.ratio.before != 0),
                     e.method);
            QCOMPARE(f.outcome == Outcome::CutOff, *f.latent != 0);
            QVERIFY2(f.outcome == Outcome::Count || f.zeros == Family::Zeros::Counted, e.method);
            QVERIFY2(*f.equation.before != 0 || *f.equation.after != 0, e.method);
            poisson += f.isPoisson() ? 1 : 0;
        }
        QCOMPARE(poisson, 1);
        QVERIFY(families::kHurdle.hasZeroPart() && !families::kTruncated.hasZeroPart());
        QVERIFY(!families::kPoissonControl.isPlainCount());
    }

    /// What is read is written again, and read again as the same; 60 draws of every setting.
    void settingsComeBack() {
        RandomStream random(4, 0);
        for (const Estimator& e : allEstimators()) {
            for (int draw = 0; draw < 60; ++draw) {
                Json estimator = {{"method", e.method}};
                const auto settings =
                    e.settings == nullptr ? std::vector<Setting>() : e.settings().settings;
                for (const Setting& setting : settings) {
                    estimator[setting.key] =
                        std::visit(AllowedValue(setting, random), setting.member);
                }
                if (e.has(trait::kByLeast) && estimator.contains("bends")) {
                    estimator["start"] = std::vector<double>(estimator["bends"].get<std::size_t>());
                }
                std::string refused;
                const Question q = readFrom(estimator, refused);
                QVERIFY2(refused.empty(), (estimator.dump() + ": " + refused).c_str());
                const Question again = readFrom(estimatorJson(q), refused);
                QVERIFY2(refused.empty(), refused.c_str());
                QCOMPARE(again.method, q.method);
                // A law of effects that is not asked about is not written.
                QVERIFY2(estimatorJson(again) == estimatorJson(q), estimator.dump().c_str());
                for (const Setting& setting : settings) {
                    const bool written = setting.written == nullptr || setting.written(q.settings);
                    QCOMPARE(estimatorJson(q).contains(setting.key), written);
                }
            }
        }
    }

    /// A study file of every method, by hand.
    void settingsAreWrittenAsDocumented() {
        const std::vector<const char*> asWritten = {
            R"({"method":"bent-line","variable":"x","bends":2,"start":[1.0,2.5],"fixed":true})",
            R"({"method":"bent-line","variable":"x","bends":1})",
            R"({"method":"fuller","a":4.0})",
            R"({"method":"gmm","steps":"iterated"})",
            R"({"method":"feasible-ar","order":1,"first_row":"dropped"})",
            R"({"method":"system-gmm","steps":"one","depth":3,"collapsed":true})",
            R"({"method":"event-study","variable":"d","before":2,"after":3,"weighting":"cohorts"})",
            R"({"method":"event-study","variable":"d","before":2,"after":0,"weighting":"group-time","against":"never"})",
            R"({"method":"negative-binomial","form":2})",
            R"({"method":"hurdle","count":"negative-binomial","form":1,"zero_terms":["z"]})",
            R"({"method":"zero-inflated","count":"poisson"})",
            R"({"method":"truncated","count":"poisson"})",
            R"({"method":"logit","penalised":true})",
            R"({"method":"logit"})",
            R"({"method":"tobit","low":0.0})",
            R"({"method":"interval","upper":"to"})",
            R"({"method":"heckman","seen_terms":["z"]})",
            R"({"method":"multilevel","levels":[{"by":"g","slopes":["x"],"covariance":"diagonal"},{"by":"h"}],"likelihood":"full","df":"kenward-roger"})",
            R"({"method":"multilevel","levels":[{"by":"g"}],"likelihood":"restricted","df":"satterthwaite","outcome":"logit","points":9})",
            R"({"method":"quantile","at":[0.1,0.5]})",
            R"({"method":"huber","k":1.2})",
            R"({"method":"bisquare"})",
            R"({"method":"mm","efficiency":0.85})",
        };
        for (const char* text : asWritten) {
            std::string refused;
            const Question q = readFrom(Json::parse(text), refused);
            QVERIFY2(refused.empty(), refused.c_str());
            QCOMPARE(estimatorJson(q).dump(), std::string(text));
        }
        Question median;
        median.method = "quantile";
        QCOMPARE(estimatorJson(median).dump(), std::string(R"({"method":"quantile","at":[0.5]})"));
    }

    void whatIsWrongIsSaidByName() {
        const std::vector<std::pair<const char*, const char*>> cases = {
            {R"({"method":"kriging"})", "no method ‘kriging’"},
            {R"({"method":"bent-line"})", "names the ‘variable’"},
            {R"({"method":"bent-line","variable":"x","bends":6})", "from 1 to 5"},
            {R"({"method":"bent-line","variable":"x","bends":1.5})", "whole number"},
            {R"({"method":"bent-line","variable":"x","bends":1e300})", "from 1 to 5"},
            {R"({"method":"bent-line","variable":"x","start":["a"]})", "‘start’ lists numbers"},
            {R"({"method":"bent-line","variable":"x","start":[1,2]})", "one place for each"},
            {R"({"method":"bent-line","variable":"x","fixed":true})", "need their places"},
            {R"({"method":"fuller","a":-1})", "from 0"},
            {R"({"method":"gmm","steps":"one"})", "\"two\", \"iterated\" or \"continuous\""},
            {R"({"method":"system-gmm","steps":"iterated"})", "\"one\" or \"two\""},
            {R"({"method":"system-gmm","depth":0.5})", "how many earlier moments"},
            {R"({"method":"system-gmm","collapsed":1})", "true or false"},
            {R"({"method":"feasible-ar","order":2})", "is 1"},
            {R"({"method":"event-study","variable":"d","before":0})", "‘before’"},
            {R"({"method":"event-study","variable":"d","against":"some"})", "‘against’"},
            {R"({"method":"event-study"})", "switched on"},
            {R"({"method":"negative-binomial","form":3})", "‘form’ is 1"},
            {R"({"method":"hurdle","count":"logit"})", "‘count’ is"},
            {R"({"method":"quantile","at":[1]})", "between 0 and 1"},
            {R"({"method":"quantile","at":[]})", "names no quantile"},
            {R"({"method":"multilevel"})", "names no grouping"},
            {R"({"method":"multilevel","levels":[{"by":"g","covariance":"odd"}]})", "‘covariance’"},
            {R"({"method":"multilevel","levels":[{"slopes":["x"]}]})", "‘by’"},
            {R"({"method":"multilevel","levels":[{"by":"g"}],"points":0})", "‘points’"},
            {R"({"method":"huber","c":4})", "belongs to bisquare"},
            {R"({"method":"least-squares","seen_terms":[]})", "heckman, heckman-two-step"},
        };
        for (const auto& [text, words] : cases) {
            std::string refused;
            (void)readFrom(Json::parse(text), refused);
            QVERIFY2(refused.find(words) != std::string::npos,
                     (std::string(text) + ": " + refused).c_str());
        }
    }

    void methodsAreCalledByTheirSettings() {
        const std::vector<std::pair<const char*, const char*>> cases = {
            {R"({"method":"least-squares"})", "least squares"},
            {R"({"method":"bent-line","variable":"x","bends":2,"start":[1,2],"fixed":true})",
             "a line with 2 bends in x, held"},
            {R"({"method":"gmm","steps":"continuous"})",
             "generalised moments, continuously updated"},
            {R"({"method":"difference-gmm","steps":"one"})",
             "differences by earlier moments in one step"},
            {R"({"method":"quantile"})", "the median"},
            {R"({"method":"quantile","at":[0.5]})", "the median"},
            {R"({"method":"quantile","at":[0.25]})", "the quantile 0.25"},
            {R"({"method":"negative-binomial","form":1})", "a negative binomial count (linear)"},
            {R"({"method":"hurdle","count":"negative-binomial"})",
             "a count behind a hurdle, negative binomial"},
            {R"({"method":"truncated"})", "a count without zeros"},
            {R"({"method":"interval","upper":"to"})", "interval regression between y and to"},
            {R"({"method":"logit","penalised":true})", "penalised logit (Firth)"},
            {R"({"method":"event-study","variable":"d","weighting":"group-time"})",
             "effects before and after a change of d, cohort by moment"},
            {R"({"method":"multilevel","levels":[{"by":"g","slopes":["x"]},{"by":"h"}]})",
             "random effects of g (slope in x) and of h"},
            {R"({"method":"multilevel","levels":[{"by":"g"}],"outcome":"poisson"})",
             "random effects of g on the log of a count"},
            {R"({"method":"multilevel","levels":[{"by":"g"}],"likelihood":"full"})",
             "random effects of g, full likelihood"},
        };
        for (const auto& [text, words] : cases) {
            std::string refused;
            Question q = readFrom(Json::parse(text), refused);
            q.outcome = "y";
            QVERIFY2(refused.empty(), refused.c_str());
            QCOMPARE(methodText(q), std::string(words));
        }
        // A method that nobody knows goes by its own name.
        Question other;
        other.method = "kriging";
        QCOMPARE(methodText(other), std::string("kriging"));
    }

    void methodsOfferThemselvesByTheOutcome() {
        QVERIFY(holds(offered(explain("no", {"amount"})), {"least-squares", "logit", "probit"}));
        QVERIFY(!holds(offered(explain("no", {"amount"})), {"poisson"}));
        QVERIFY(holds(offered(explain("amount > 3", {"share"})), {"logit", "cloglog"}));
        QVERIFY(holds(offered(explain("count", {"amount"})),
                      {"poisson", "negative-binomial", "hurdle", "zero-inflated", "quantile"}));
        QVERIFY(holds(offered(explain("rank", {"amount"})),
                      {"ordered-logit", "ordered-probit", "multinomial-logit"}));
        QVERIFY(!holds(offered(explain("kind", {"amount"})), {"ordered-logit"}));
        QVERIFY(holds(offered(explain("share", {"amount"})), {"fractional-logit", "tobit"}));
        QVERIFY(holds(offered(explain("some", {"amount"})), {"heckman", "heckman-two-step"}));
        QVERIFY(holds(offered(explain("wage_from", {"amount"})), {"interval"}));
        QVERIFY(holds(offered(explain("amount", {"share"})), {"bent-line", "mm", "huber"}));
        // Once by a method its kin are at hand, whatever the outcome's measure.
        Question again = explain("amount", {"share"});
        again.method = "poisson";
        QVERIFY(holds(offered(again), {"hurdle"}));
        Question seen = explain("amount", {"share"});
        seen.method = "heckman";
        QVERIFY(holds(offered(seen), {"heckman-two-step"}));
    }

    void methodsOfferThemselvesByWhatRowsAre() {
        Study study;
        const std::set<std::string> ofUnits = {"within", "random", "between", "first-difference"};
        QVERIFY(!holds(offered(explain("amount", {"share"}), study), {"within"}));
        study.layout.kind = Layout::Kind::Panel;
        study.layout.unit = "unit";
        study.layout.time = "year";
        const auto inPanel = offered(explain("amount", {"share", "no"}), study);
        QVERIFY(holds(inPanel, ofUnits));
        QVERIFY(holds(inPanel, {"feasible-ar", "event-study"}));
        QVERIFY(!holds(inPanel, {"system-gmm"}));
        QVERIFY(holds(offered(explain("amount", {"lag(amount)"}), study), {"system-gmm"}));
        Question moved = explain("amount", {"share"});
        moved.endogenous = {Term::expression("some")};
        moved.instruments = {Term::expression("count")};
        QVERIFY(holds(offered(moved), {"two-stage", "liml", "fuller", "gmm"}));
        moved.outcome = "count";
        QVERIFY(holds(offered(moved), {"poisson-control"}));
    }

    /// Each can be taken: it is written, read, and has a name.
    void whatIsOfferedCanBeAsked() {
        const Table t = outcomes();
        std::set<std::string> methods;
        for (const char* outcome :
             {"amount", "count", "no", "rank", "kind", "share", "some", "wage_from"}) {
            Question q = explain(outcome, {"amount", "lag(share)", "no"});
            q.endogenous = {Term::expression("some")};
            Study study;
            study.layout = {Layout::Kind::Panel, "unit", "year", ""};
            const Frame frame = Frame::make(t, {}, {}, {}, study.layout);
            for (const Question& asked : {q, explain(outcome, {"amount", "no"})}) {
                const Answer a = answer(t, explain(outcome, {"amount", "no"}), study.layout);
                OfferedMethod::Place last = OfferedMethod::Place::Plain;
                for (const OfferedMethod& one : offeredMethods(study, &frame, asked, &a)) {
                    Question next = asked;
                    next.method = one.method;
                    next.settings = one.settings;
                    std::string refused;
                    Question again = readFrom(estimatorJson(next), refused);
                    again.outcome = next.outcome;
                    QVERIFY2(refused.empty(), (one.label + ": " + refused).c_str());
                    QVERIFY2(methodText(again) == methodText(next),
                             (methodText(again) + ", " + methodText(next)).c_str());
                    QVERIFY(one.place >= last);
                    last = one.place;
                    methods.insert(one.method);
                }
            }
        }
        // Random effects are built level by level, and offered where groupings are known.
        for (const Estimator& e : allEstimators()) {
            QCOMPARE(methods.contains(e.method), e.offers != nullptr);
            QCOMPARE(e.offers == nullptr, e.canTake(takes::kGroupsWhole));
        }
        // Before there is a table or an answer.
        QVERIFY(!offeredMethods({}, nullptr, Question(), nullptr).empty());
    }
};

QTEST_APPLESS_MAIN(MethodsTest)
#include "methods_test.moc"
