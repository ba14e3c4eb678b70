// A trace as it is stated, changed and told: sentences, roles, edits, readings, reports, kinds.
#include "core/base/format.h"
#include "core/paths/path_picture.h"
#include "core/paths/system.h"
#include "core/paths/trace.h"
#include "core/paths/trace_edits.h"
#include "core/paths/trace_kind.h"
#include "core/report/report.h"
#include "core/report/wording.h"
#include "core/report/writers/writer.h"
#include "core/study/question_kind.h"
#include "tests/core/fixtures.h"

#include <QTest>

#include <set>

using namespace rapporto;
using namespace rapporto::test;

namespace {

using Names = std::vector<std::string>;

bool has(const std::string& text, const std::string& part) {
    return text.find(part) != std::string::npos;
}

/// Effects without rows: what an answer would hold, so that every case of the words is reached.
class Told {
  public:
    Told() {
        answer_.question.id = "q1";
        answer_.question.kind = "trace";
        trace_.interval = "percentile";
        trace_.resampling = "rows";
        trace_.asked = 1000;
        for (const char* name : {"cause", "way", "end"}) {
            TraceNode node;
            node.name = node.label = name;
            node.sd = 1.0;
            trace_.nodes.push_back(node);
        }
    }

    Told& effect(const std::string& kind, double low, double estimate, double high,
                 const Names& through = {}) {
        TraceEffect e;
        e.from = "cause";
        e.to = "end";
        e.kind = kind;
        e.through = through;
        e.low = low;
        e.estimate = estimate;
        e.high = high;
        e.se = (high - low) / 4.0;
        e.p = low > 0.0 || high < 0.0 ? 0.01 : 0.4;
        trace_.effects.push_back(e);
        return *this;
    }

    Told& share(double share, double low, double high) {
        trace_.shares.push_back({"cause", "end", {}, share, low, high});
        return *this;
    }

    [[nodiscard]] Answer answer() const {
        Answer a = answer_;
        a.trace = std::make_shared<const Trace>(trace_);
        return a;
    }

    Trace trace_;
    Answer answer_;
};

/// Direct and indirect effects with these ends.
Answer two(std::pair<double, double> direct, std::pair<double, double> indirect) {
    const auto middle = [](std::pair<double, double> ends) {
        return 0.5 * (ends.first + ends.second);
    };
    return Told()
        .effect("direct", direct.first, middle(direct), direct.second)
        .effect("indirect", indirect.first, middle(indirect), indirect.second, {"way"})
        .effect("indirect", indirect.first, middle(indirect), indirect.second)
        .effect("total", direct.first + indirect.first, middle(direct) + middle(indirect),
                direct.second + indirect.second)
        .answer();
}

TraceSpec pruning() {
    TraceSpec spec;
    addCause(spec, "training");
    addOutcome(spec, "income");
    addBetween(spec, "pruning");
    addBeside(spec, "neighbours");
    return spec;
}

const PathSpec& pathTo(const TraceSpec& spec, const std::string& to) {
    for (const PathSpec& path : spec.paths) {
        if (path.to == to) {
            return path;
        }
    }
    qFatal("no path to %s", to.c_str());
}

Names shown(const std::vector<Term>& terms) {
    Names out;
    for (const Term& term : terms) {
        out.push_back(term.shown());
    }
    return out;
}

}  // namespace

class TraceWordsTest : public QObject {
    Q_OBJECT

  private slots:

    void theReadingGoesByIntervals() {
        // Both clear, alike or against each other.
        QVERIFY(has(traceReading(two({0.1, 0.3}, {0.2, 0.4})), "point the same way"));
        QVERIFY(has(traceReading(two({-0.3, -0.1}, {0.2, 0.4})), "oppose each other"));
        // The way alone: how much a direct effect may still be is said, with its end.
        const std::string way = traceReading(two({-0.05, 0.15}, {0.2, 0.4}));
        QVERIFY2(has(way, "still allows .15") && has(way, "is not shown"), way.c_str());
        QVERIFY(has(traceReading(two({-0.15, 0.05}, {-0.4, -0.2})), "still allows −.15"));
        QVERIFY(has(traceReading(two({0.1, 0.3}, {-0.1, 0.2})), "by that way is not shown"));
        QVERIFY(has(traceReading(two({-0.1, 0.3}, {-0.1, 0.2})), "Neither is told apart"));
        for (const auto& direct : {std::pair(0.1, 0.3), std::pair(-0.1, 0.3)}) {
            for (const auto& indirect : {std::pair(0.1, 0.3), std::pair(-0.1, 0.3)}) {
                const std::string text = traceReading(two(direct, indirect));
                QVERIFY(!has(text, "significan") && !has(text, "mediat"));
                QVERIFY(has(text, "drawn, not found"));
            }
        }
    }

    void sharesAreToldWhereThereAreAny() {
        Told told;
        told.effect("direct", 0.1, 0.2, 0.3)
            .effect("indirect", 0.2, 0.3, 0.4)
            .effect("total", 0.3, 0.5, 0.7)
            .share(0.6, 0.4, 0.8);
        QVERIFY(has(traceReading(told.answer()), "60 % of it (40 % to 80 %)"));
        told.trace_.shares.front().share.reset();
        QVERIFY(!has(traceReading(told.answer()), "% of it"));
        // Without an arrow all of it passes, by what was drawn and not by what was found.
        Told only;
        only.effect("indirect", 0.2, 0.3, 0.4).effect("total", 0.2, 0.3, 0.4).share(1.0, 1.0, 1.0);
        const std::string text = traceReading(only.answer());
        QVERIFY(has(text, "by assumption") && !has(text, "100 %"));
    }

    void drawsDigitsAndFitAreSaid() {
        Told told;
        told.effect("direct", 0.1, 0.2, 0.3).effect("indirect", 0.2, 0.3, 0.4);
        told.trace_.failed = 7;
        QVERIFY(
            has(traceReading(told.answer()), "7 of " + countText(1000) + " draws had no solution"));
        told.trace_.effects.back().rounding = 0.02;
        QVERIFY(has(traceReading(told.answer()), "digits printed"));
        SystemFit fit;
        fit.chi2 = 12.0;
        fit.df = 2.0;
        fit.p = 0.002;
        told.trace_.fit = fit;
        QVERIFY(has(traceReading(told.answer()), "**are missed**"));
        told.trace_.fit->p = 0.4;
        QVERIFY(has(traceReading(told.answer()), "are not missed"));
        told.trace_.fit->df = 0.0;
        QVERIFY(!has(traceReading(told.answer()), "χ²"));
    }

    void manyPairsAreCounted() {
        Told told;
        for (int k = 0; k < 5; ++k) {
            told.effect("indirect", 0.1, 0.2, 0.3);
            told.trace_.effects.back().from = "cause " + std::to_string(k);
        }
        QVERIFY(has(traceReading(told.answer()), "2 further pairs are listed below"));
    }

    void effectsAreNamedByTheirWay() {
        TraceEffect e;
        e.kind = "indirect";
        QCOMPARE(effectName(e), std::string("through all ways"));
        e.through = {"a", "b"};
        QCOMPARE(effectName(e), std::string("through a, then b"));
        e.kind = "indirect-difference";
        QVERIFY(has(effectName(e), "difference from the first"));
        e.kind = "natural-direct";
        QCOMPARE(effectName(e), std::string("direct"));
        e.kind = "total";
        QCOMPARE(effectName(e), std::string("total"));
        QCOMPARE(settingText({{"irrigated", Key(1.0)}, {"zone", Key(std::string("Ridge"))}}),
                 std::string("where irrigated is 1 and zone is Ridge"));
    }

    void sensitivityIsToldBySize() {
        TraceSensitivity s;
        s.from = "a";
        s.to = "c";
        s.through = "b";
        for (const auto& [rho, words] :
             {std::pair(0.05, "very little would do"), std::pair(-0.2, "a weak link would do"),
              std::pair(0.4, "a moderate link"), std::pair(-0.7, "a strong link")}) {
            s.rhoZero = rho;
            QVERIFY(has(sensitivityReading(s), words));
        }
        // It falls from side to side and is nothing at its place.
        s.rhoZero = 0.3;
        s.first = 0.5;
        s.spread = 2.0;
        QVERIFY(s.indirectAt(-0.5) > s.indirectAt(0.0) && s.indirectAt(0.0) > 0.0);
        QVERIFY(s.indirectAt(0.6) < 0.0);
        QVERIFY(std::abs(s.indirectAt(0.3)) < 1e-15);
    }

    void theSentenceIsBuiltStepByStep() {
        TraceSpec spec;
        QVERIFY(spec.isEmpty());
        addCause(spec, "training");
        QVERIFY(spec.isEmpty());  // It leads nowhere yet.
        addOutcome(spec, "income");
        QVERIFY(!spec.isEmpty());
        QCOMPARE(spec.effects.size(), 1U);
        addBetween(spec, "pruning");
        QCOMPARE(shown(pathTo(spec, "pruning").from), (Names{"training"}));
        QCOMPARE(shown(pathTo(spec, "income").from), (Names{"training", "pruning"}));
        addBeside(spec, "neighbours");
        const TraceRoles roles = traceRoles(spec);
        QCOMPARE(roles.causes, (Names{"training"}));
        QCOMPARE(roles.outcomes, (Names{"income"}));
        QCOMPARE(roles.between, (Names{"pruning"}));
        QCOMPARE(roles.beside, (Names{"neighbours"}));
        Question q;
        q.kind = "trace";
        q.trace = spec;
        QVERIFY(questionSentence(q).starts_with(
            "Trace how training reaches income through pruning, beside neighbours"));
        q.trace.holding = {Term::expression("age")};
        q.trace.interval = "delta";
        q.where = "age > 30";
        const std::string text = questionSentence(q);
        QVERIFY(has(text, "holding age") && has(text, "intervals delta") &&
                has(text, "among age > 30"));
        q.trace.interval = "bca";
        q.trace.resampling = "clusters";
        q.trace.by = {"village"};
        QVERIFY(has(questionSentence(q), "draws of village"));
        q.trace.resampling = "parametric";
        QVERIFY(has(questionSentence(q), "parametric"));
    }

    void aSecondCauseAsksForItsEffectsToo() {
        TraceSpec spec = pruning();
        addCause(spec, "schooling");
        QCOMPARE(spec.effects.size(), 2U);
        QCOMPARE(traceRoles(spec).causes, (Names{"training", "schooling"}));
        // Stands in every equation, once.
        addCause(spec, "schooling");
        for (const PathSpec& path : spec.paths) {
            const Names names = shown(path.from);
            QCOMPARE(std::count(names.begin(), names.end(), "schooling"), 1);
        }
        // Without effects named, all causes are asked for; a further one keeps them.
        TraceSpec all = pruning();
        all.effects.clear();
        QCOMPARE(traceRoles(all).causes, (Names{"training", "neighbours"}));
        addCause(all, "schooling");
        QCOMPARE(all.effects.size(), 3U);
    }

    void whatIsDroppedFindsItsPlace() {
        TraceSpec spec;
        for (const char* name : {"training", "income", "pruning", "health"}) {
            addDropped(spec, name);
        }
        const TraceRoles roles = traceRoles(spec);
        QCOMPARE(roles.causes, (Names{"training"}));
        QCOMPARE(roles.outcomes, (Names{"income"}));
        QCOMPARE(roles.between, (Names{"pruning", "health"}));
    }

    void arrowsAreDrawnRemovedAndTurned() {
        TraceSpec spec = pruning();
        // Between two causes: one is explained now.
        drawPath(spec, "neighbours", "training");
        QCOMPARE(shown(pathTo(spec, "training").from), (Names{"neighbours"}));
        removePath(spec, "neighbours", "training");
        QCOMPARE(spec.paths.size(), 2U);  // It is a cause again.
        turnPath(spec, "training", "pruning");
        QCOMPARE(shown(pathTo(spec, "training").from), (Names{"pruning"}));
        // Products go with the cause they hold.
        TraceSpec product = pruning();
        product.paths.back().from.push_back({Term::Kind::Product, {"pruning", "irrigated"}, false});
        removePath(product, "pruning", "income");
        QCOMPARE(shown(pathTo(product, "income").from), (Names{"training", "neighbours"}));
    }

    void aNodeIsTakenOutOfEverything() {
        TraceSpec spec = pruning();
        spec.effects[0].at = {{"neighbours", {0.0, 1.0}}};
        spec.places["pruning"] = {0.5, 0.5};
        removeNode(spec, "neighbours");
        QVERIFY(traceRoles(spec).beside.empty());
        QVERIFY(spec.effects[0].at.empty());
        removeNode(spec, "pruning");
        QVERIFY(spec.places.empty());
        QCOMPARE(spec.paths.size(), 1U);
        // Without an outcome the causes wait for another.
        removeNode(spec, "income");
        QVERIFY(spec.isEmpty());
        QCOMPARE(traceRoles(spec).causes, (Names{"training"}));
        addOutcome(spec, "revenue");
        QCOMPARE(shown(pathTo(spec, "revenue").from), (Names{"training"}));
        QCOMPARE(spec.effects.back().to, std::string("revenue"));
    }

    void mutedVariablesLeaveTheSystemAndNotTheSentence() {
        TraceSpec spec = pruning();
        spec.paths.back().from.push_back({Term::Kind::Set, {"controls"}, false});
        muteNode(spec, "pruning");
        QVERIFY(isMuted(spec, "pruning"));
        const TraceSpec left = withoutMuted(spec, {{"controls", {"age", "pruning"}}});
        QCOMPARE(left.paths.size(), 1U);
        QCOMPARE(shown(left.paths[0].from), (Names{"training", "neighbours", "age"}));
        QCOMPARE(traceRoles(spec).between, (Names{"pruning"}));
        muteNode(spec, "pruning");
        QVERIFY(!isMuted(spec, "pruning"));
        // A muted cause takes its effects with it.
        muteNode(spec, "training");
        QVERIFY(withoutMuted(spec, {}).effects.empty());
    }

    void aCircleKeepsItsSentence() {
        TraceSpec spec = pruning();
        drawPath(spec, "income", "pruning");
        const TraceRoles roles = traceRoles(spec);
        QCOMPARE(roles.outcomes, (Names{"income"}));
        QCOMPARE(roles.between, (Names{"pruning"}));
    }

    void levelsAreToldFromComparisons() {
        QCOMPARE(levelAt("zone=Ridge"), std::size_t{4});
        for (const char* text :
             {"age >= 30", "zone = 'Ridge'", "a <= b", "x", "=x", "x=", "a != b"}) {
            QCOMPARE(levelAt(text), std::string::npos);
        }
    }

    void theTableOfKindsIsWhole() {
        std::set<std::string> ids;
        for (const QuestionKind& kind : questionKinds()) {
            QVERIFY(ids.insert(kind.id).second);
            QVERIFY(findKind(kind.id) == &kind);
            QVERIFY(kind.read != nullptr && kind.write != nullptr && kind.answer != nullptr &&
                    kind.results != nullptr && kind.sentence != nullptr && kind.reading != nullptr);
            QVERIFY(!kind.keys.empty() && std::string(kind.does).size() > 3);
        }
        QVERIFY(findKind("relate") == nullptr);
        QVERIFY(has(kindNames(), "correlate"));
        // A kind that is not known is kept to the letter, and its sentence is its name.
        Question q;
        q.kind = "wonder";
        QCOMPARE(questionSentence(q), std::string("wonder"));
    }

    void theOlderNameOfCorrelationsIsRead() {
        const std::string text =
            R"({"format":"rapporto-study","version":1,"source":{"kind":"table","file":"a.csv"},)"
            R"("questions":[{"id":"q1","kind":"relate","variables":["x","y"]}]})";
        const auto study = readStudyText(text);
        QVERIFY(study && !study->questions[0].unbuilt);
        QCOMPARE(study->questions[0].kind, std::string("correlate"));
        QVERIFY(has(studyText(*study), "\"kind\": \"correlate\""));
    }

    void tracesStandSideBySide() {
        const Answer before = two({-0.05, 0.15}, {0.2, 0.4});
        Answer after = two({0.3, 0.5}, {0.2, 0.4});
        const auto texts = differenceReading(before, after);
        QVERIFY(has(texts[0], "Both ask the same"));
        QVERIFY(std::any_of(texts.begin(), texts.end(), [](const std::string& text) {
            return has(text, "direct effect of cause on end");
        }));
        after.question.trace.draws = 100;
        QVERIFY(has(differenceReading(before, after)[0], "became"));
        // Beside another kind nothing is set against each other.
        Answer other;
        other.question.kind = "correlate";
        QVERIFY(has(differenceReading(before, other)[0], "different kinds"));
    }

    void everyWriterWritesATrace() {
        Told told;
        told.effect("direct", 0.1, 0.2, 0.3)
            .effect("indirect", 0.2, 0.3, 0.4, {"way"})
            .effect("total", 0.3, 0.5, 0.7);
        for (int a = 0; a < 2; ++a) {
            TraceArrow arrow;
            arrow.from = a;
            arrow.to = a + 1;
            arrow.estimate = 0.5;
            arrow.se = 0.1;
            arrow.low = 0.3;
            arrow.high = 0.7;
            arrow.p = 0.001;
            arrow.standardised = 0.4;
            told.trace_.arrows.push_back(arrow);
        }
        told.trace_.together = Eigen::MatrixXd::Identity(3, 3);
        const Answer a = told.answer();
        Study study;
        study.title = "ways & means";
        study.questions = {a.question};
        study.report = {
            {"reading", {"q1"}}, {"table", {"q1"}}, {"lenses", {"q1"}}, {"methods", {"q1"}}};
        const ReportPages pages = reportPages(study, {{"q1", &a}});
        for (const char* ending : {".html", ".md", ".csv", ".tex"}) {
            const auto page = findReportWriter(ending)->write(pages, "t");
            QVERIFY2(page && has(page->bytes, "through way"), ending);
            QVERIFY(!has(page->bytes, "<script"));
        }
        const std::string svg = pathPictureSvg(*a.trace, {}, 600.0, 300.0);
        QVERIFY(has(svg, ">cause<") && has(svg, ".50 (.10)"));
        QVERIFY(has(arrowReading(a, 0)[0], "From **cause** to **way**"));
    }

    void theSummaryOfAMapIsWrittenDown() {
        Told told;
        told.effect("indirect", 0.2, 0.3, 0.4, {"way"});
        Answer a = told.answer();
        for (const auto& [interval, words] :
             {std::pair("delta", "delta method"), std::pair("bca", "BCa from"),
              std::pair("bias-corrected", "bias-corrected from")}) {
            Trace trace = *a.trace;
            trace.interval = interval;
            a.trace = std::make_shared<const Trace>(trace);
            QVERIFY2(has(traceMethods(a), words), traceMethods(a).c_str());
        }
        Trace drawn = *a.trace;
        drawn.resampling = "parametric";
        a.trace = std::make_shared<const Trace>(drawn);
        QVERIFY(has(traceMethods(a), "joint normal law"));
        a.fromMoments = true;
        QVERIFY(has(traceMethods(a), "Wishart"));
    }
};

QTEST_APPLESS_MAIN(TraceWordsTest)
#include "trace_words_test.moc"
