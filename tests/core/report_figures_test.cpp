// Figures that a question can be asked for by name, the sweep among them, and heads of columns.
#include "core/base/format.h"
#include "core/model/instruments.h"
#include "core/model/term_choice.h"
#include "core/report/named_figures.h"
#include "core/report/press/press.h"
#include "core/report/sweep_picture.h"
#include "core/study/sources.h"
#include "core/study/sweep.h"
#include "tests/core/hard_study.h"

#include <QTest>

#include <cmath>
#include <set>

using namespace rapporto;
using namespace rapporto::test;

namespace {

/// Yields of growers with a term that an instrument moves.
Table moved() {
    std::mt19937 random(11);
    std::normal_distribution<double> normal;
    std::vector<double> y;
    std::vector<double> x;
    std::vector<double> z;
    std::vector<double> v;
    for (int i = 0; i < 120; ++i) {
        z.push_back(normal(random));
        v.push_back(normal(random));
        const double u = normal(random);
        x.push_back(z.back() + 0.5 * v.back() + u);
        y.push_back(1.0 + 2.0 * x.back() + u + normal(random));
    }
    return tableOf({{"y", y}, {"x", x}, {"z", z}, {"v", v}});
}

/// One item made by a study of its own.
struct Made {
    Study study;
    std::optional<Frame> frame;
    std::vector<Answer> answers;

    Made(const Table& table, const Question& question, const Layout& layout = {}) {
        study.layout = layout;
        frame = Frame::make(table, {}, {}, {}, layout);
        study.questions = {question};
        answers.push_back(answerQuestion(study, *frame, question, Job()));
    }

    Result<MadeFigure> figure(const ReportItem& item) const {
        ReportSheet sheet;
        const Job job;
        const std::vector<const Answer*> list = {&answers[0]};
        const AnswersById byId = {{answers[0].question.id, &answers[0]}};
        return namedFigure({study, item, list, byId, &*frame, sheet, job}, answers[0]);
    }

    Result<MadeFigure> figure(const std::string& shows,
                              const std::vector<std::string>& variables = {}) const {
        ReportItem item("figure", {"q1"});
        item.shows = shows;
        item.variables = variables;
        return figure(item);
    }
};

std::set<std::string> namesOf(const Answer& answer) {
    std::set<std::string> out;
    for (const auto& [id, words] : figuresOf(answer)) {
        out.insert(id);
    }
    return out;
}

std::size_t circles(const Drawing& drawing) {
    return static_cast<std::size_t>(std::count_if(
        drawing.shapes.begin(), drawing.shapes.end(),
        [](const auto& shape) { return shape.kind == Drawing::Shape::Kind::Circle; }));
}

Question named(Question q) {
    q.id = "q1";
    q.allChecks = true;
    return q;
}

Made linear() {
    const Hard small(4, 1);
    Question q = named(explain("y", {"x0", "x1", "x2", "x3"}));
    q.leftOut = LeftOutRequest{};
    q.leftOut->of = "x0";
    q.leftOut->benchmarks = {Term::expression("x1")};
    q.byLot = LotRequest{"x0", {}, "", 199};
    return {small.table, q};
}

}  // namespace

class ReportFiguresTest : public QObject {
    Q_OBJECT

  private slots:

    void everyNamedFigureIsMadeWhereItIs() {
        const Made plain = linear();
        Question q = named(explain("y", {"v"}));
        q.method = "two-stage";
        q.endogenous = {Term::expression("x")};
        q.instruments = {Term::expression("z")};
        const Made causes(moved(), q);
        Question along = named(explain("y", {"x", "v"}));
        along.method = "quantile";
        along.settings.at = {0.25, 0.5, 0.75};
        const Made quantiles(moved(), along);
        Question levels = named(explain("y", {"x"}));
        levels.method = "multilevel";
        levels.settings.levels = {{"round(z)"}};
        const Made groups(moved(), levels);
        QVERIFY(!groups.figure("groups", {"nobody"}));
        QVERIFY(groups.figure("groups", {"round(z)"}).has_value());
        Table inTime = moved();
        std::vector<double> moment(inTime.rows());
        std::iota(moment.begin(), moment.end(), 1.0);
        inTime.columns.push_back(Column::ofNumbers("t", moment));
        Variable time;
        time.name = "t";
        inTime.variables.push_back(time);
        Question ahead = named(explain("y", {"v", "lag(y)"}));
        ahead.forecast = ForecastRequest{6, {}};
        const Made series(inTime, ahead, {Layout::Kind::Series, "", "t", ""});
        std::set<std::string> made;
        for (const Made* one : {&plain, &causes, &quantiles, &groups, &series}) {
            QVERIFY2(!one->answers[0].refusal,
                     one->answers[0].refusal ? one->answers[0].refusal->text().c_str() : "");
            for (const NamedFigure& figure : allNamedFigures()) {
                if (!figure.has(one->answers[0])) {
                    continue;
                }
                const auto drawn = one->figure(figure.shows);
                QVERIFY2(drawn, drawn ? "" : (figure.shows + drawn.error().text()).c_str());
                QVERIFY2(!drawn->drawing.empty() && !drawn->caption.empty(), figure.shows);
                QVERIFY2(drawn->drawing.width <= kFigureWidth, figure.shows);
                made.insert(figure.shows);
            }
        }
        // What is looked at before and after a change has its test beside that method.
        for (const NamedFigure& figure : allNamedFigures()) {
            QVERIFY2(made.contains(figure.shows) || figure.shows == std::string("event"),
                     figure.shows);
        }
    }

    void everyItemStandsInTheDemosReport() {
        const std::string folder = RAPPORTO_SOURCE_DIR "/demo";
        auto study = readStudyFile(folder + "/calvessa.rapporto");
        QVERIFY(study);
        const auto sources = readSources(*study, folder, false, Job());
        QVERIFY(sources);
        const Frame frame = makeFrame(*study, *sources);
        Question& lead = study->questions[1];
        lead.predict = {{{{"member", 1.0}}, "a member"}};
        lead.hypotheses = {"member = 0"};
        lead.effects = {{"member"}};
        lead.leftOut = LeftOutRequest{};
        lead.leftOut->of = "member";
        lead.byLot = LotRequest{"member", {}, "", 499};
        lead.worstCases = WorstCaseRequest{"member"};
        lead.planned = {{"member", 0.1}};
        study->trail = {{"2026-11-30T10:00:00", "looked at it"}};
        std::vector<Answer> answers;
        answers.reserve(study->questions.size());
        AnswersById byId;
        for (const Question& q : study->questions) {
            answers.push_back(answerQuestion(*study, frame, q, Job()));
            byId[q.id] = &answers.back();
        }
        study->report.clear();
        for (const ReportItemKind& kind : allReportItems()) {
            // The square of hives stands in the third question: there is something to turn.
            const bool turning = std::string(kind.id) == "turning-points";
            ReportItem item(kind.id, {turning ? study->questions[2].id : lead.id});
            item.text = "Members earn {effect of member in " + lead.id + "} more.";
            if (std::string(kind.id) == "correlations" || std::string(kind.id) == "picture") {
                item.variables = {"age", "hives"};
            }
            study->report.push_back(item);
        }
        const std::size_t figures = study->report.size();
        for (const auto& [shows, words] : figuresOf(byId.at(lead.id)[0])) {
            ReportItem figure("figure", {lead.id});
            figure.shows = shows;
            study->report.push_back(figure);
        }
        QVERIFY(study->report.size() > figures + 40);
        const ReportPages pages = reportPages(*study, byId, &frame);
        std::set<int> told;
        for (const ReportBlock& block : pages.blocks) {
            told.insert(block.item);
        }
        for (std::size_t i = 0; i < study->report.size(); ++i) {
            QVERIFY2(told.contains(static_cast<int>(i)),
                     (study->report[i].item + " " + study->report[i].shows).c_str());
        }
        // Each figure is one, but for those that say why they are not there.
        std::size_t drawn = 0;
        for (const ReportBlock& block : pages.blocks) {
            drawn +=
                block.item >= static_cast<int>(figures) && block.kind == ReportBlock::Kind::Figure
                    ? 1U
                    : 0U;
        }
        std::string missing;
        for (const ReportBlock& block : pages.blocks) {
            missing += block.item >= static_cast<int>(figures) &&
                               block.kind == ReportBlock::Kind::Note && block.part.empty()
                           ? block.text + "\n"
                           : "";
        }
        QVERIFY2(drawn == study->report.size() - figures, missing.c_str());
        const auto press = Press::make(pages);
        QVERIFY(press);
        for (const Press::Place& place : (*press)->places()) {
            const Press::Sheet sheet = (*press)->sheet(place.page);
            QVERIFY(place.x >= 0.0 && place.x + place.width <= sheet.width);
        }
    }

    void whatIsNotThereIsNamed() {
        const Made plain = linear();
        const auto names = namesOf(plain.answers[0]);
        QVERIFY(names.contains("sweep") && names.contains("breusch-pagan"));
        QVERIFY(!names.contains("first-stage") && !names.contains("quantiles"));
        const auto none = plain.figure("first-stage");
        QVERIFY(!none);
        QVERIFY(none.error().text().find("no figure ‘first-stage’") != std::string::npos);
        QVERIFY(none.error().text().find("‘subsets’") != std::string::npos);
        QVERIFY(!plain.figure("alone", {"nobody"}));
        QVERIFY(!plain.figure("controls", {"nobody"}));
        QVERIFY(plain.figure("breusch-pagan"));
    }

    void aFirstStageIsItsCoefficients() {
        Question q = named(explain("y", {"v"}));
        q.method = "two-stage";
        q.endogenous = {Term::expression("x")};
        q.instruments = {Term::expression("z")};
        const Made causes(moved(), q);
        const auto figure = causes.figure("first-stage", {"x"});
        QVERIFY(figure);
        QVERIFY(figure->caption.find("x") != std::string::npos);
        const FirstStage& stage = causes.answers[0].fit->instrumented->firstStages[0];
        const auto z = std::find_if(stage.coefficients.begin(), stage.coefficients.end(),
                                    [](const Coefficient& c) { return c.term == "z"; });
        QVERIFY(z != stage.coefficients.end());
        const std::string number = fixedNumber(z->estimate, decimalsFor(z->se), true);
        QVERIFY2(std::any_of(figure->drawing.shapes.begin(), figure->drawing.shapes.end(),
                             [&](const auto& s) { return s.words.find(number) == 0; }),
                 number.c_str());
        QVERIFY(!causes.figure("first-stage", {"v"}));
        QVERIFY(causes.figure("reduced-form"));
    }

    void whatIsStoppedSaysSo() {
        const Made plain = linear();
        Study study = plain.study;
        ReportItem sweep("figure", {"q1"});
        sweep.shows = "sweep";
        study.report = {sweep};
        const AnswersById byId = {{"q1", &plain.answers[0]}};
        Job job;
        job.stop();
        const auto stopped = buildReport(study, byId, &*plain.frame, job);
        QCOMPARE(stopped.size(), std::size_t{1});
        QVERIFY(stopped[0].kind == ReportBlock::Kind::Note);
        const auto whole = buildReport(study, byId, &*plain.frame);
        QVERIFY(std::any_of(whole.begin(), whole.end(), [](const ReportBlock& b) {
            return b.kind == ReportBlock::Kind::Figure;
        }));
    }

    void whatFitsAnewIsKnown() {
        ReportItem figure("figure", {"q1"});
        QVERIFY(!fitAnew({figure, ReportItem("table", {"q1"})}));
        figure.shows = "breusch-pagan";
        QVERIFY(!fitAnew({figure}));
        figure.shows = "sweep";
        QVERIFY(fitAnew({ReportItem("table", {"q1"}), figure}));
        figure.item = "text";
        QVERIFY(!fitAnew({figure}));
    }

    void aCriterionIsTheOneAskedFor() {
        const Made plain = linear();
        ReportItem item("figure", {"q1"});
        item.shows = "subsets";
        std::set<std::string> notes;
        for (const CriterionName& one : allCriteria()) {
            item.by = one.id;
            const auto figure = plain.figure(item);
            QVERIFY(figure);
            notes.insert(figure->caption + figure->note);
        }
        QVERIFY(notes.size() > 1);
    }

    void aSweepIsDrawnSpecificationBySpecification() {
        const Made plain = linear();
        const Answer& a = plain.answers[0];
        SweepChoices choices;
        choices.of = "x0";
        choices.vary = {"x1", "x2"};
        choices.errors = {"robust"};
        choices.outliers = false;
        const SweepSpec spec = sweepOf(a.question, *a.design, *a.fit, choices);
        QCOMPARE(spec.of, std::string("x0"));
        QCOMPARE(spec.vary, (std::vector<std::size_t>{1, 2}));
        QCOMPARE(spec.errors.size(), std::size_t{1});
        QCOMPARE(spec.errors[0].shown(), std::string("robust (HC3)"));
        QCOMPARE(spec.samples.size(), std::size_t{1});
        const auto swept = sweep(plain.study, *plain.frame, spec, Job());
        QVERIFY(swept);
        QCOMPARE(swept->results.size(), std::size_t{4});
        ReportItem item("figure", {"q1"});
        item.shows = "sweep";
        item.sweep = choices;
        const auto figure = plain.figure(item);
        QVERIFY(figure);
        QCOMPARE(circles(figure->drawing), std::size_t{4});
        QVERIFY(figure->caption.starts_with("x0 over 4 specifications"));
        QVERIFY(figure->note.find("With and without x1, x2") != std::string::npos);
        const int d = decimalsFor(swept->results[2].se);
        QVERIFY(figure->note.find("median of " + fixedNumber(swept->median, d)) !=
                std::string::npos);
    }

    void choicesThatAreNotMadeAreTheUsualOnes() {
        const Hard small(12, 1);
        Question q = named(explain(
            "y", {"x0", "x1", "x2", "x3", "x4", "x5", "x6", "x7", "x8", "x9", "x10", "x11"}));
        q.terms[3].muted = true;
        const Made wide(small.table, q);
        const Answer& a = wide.answers[0];
        const SweepSpec usual = sweepOf(a.question, *a.design, *a.fit, {});
        QCOMPARE(usual.of, std::string("x0"));
        // Eight of the ten that may go; neither the muted one nor that whose effect is followed.
        QCOMPARE(usual.vary, (std::vector<std::size_t>{1, 2, 4, 5, 6, 7, 8, 9}));
        QCOMPARE(usual.errors.size(), std::size_t{2});
        SweepChoices none;
        none.vary.emplace();
        none.errors.clear();
        const SweepSpec bare = sweepOf(a.question, *a.design, *a.fit, none);
        QVERIFY(bare.vary.empty());
        QCOMPARE(bare.errors.size(), std::size_t{1});  // The question’s own.
        // Rows that stand out are those beyond three standard deviations.
        std::size_t odd = 0;
        for (const double e : a.fit->residuals) {
            odd += std::abs(e) > 3.0 * a.fit->statistics.sigma ? 1U : 0U;
        }
        QCOMPARE(usual.samples.size(), odd > 0 ? std::size_t{2} : std::size_t{1});
        if (odd > 0) {
            QCOMPARE(usual.samples[1].without.size(), odd);
        }
    }

    void choicesGoThroughTheStudyFile() {
        Study study;
        study.source.file = "a.csv";
        ReportItem item("figure", {"q1"});
        item.shows = "sweep";
        item.sweep = SweepChoices{"x", std::vector<std::string>{}, {"own"}, false};
        ReportItem usual("figure", {"q1"});
        usual.sweep = SweepChoices{};
        study.report = {item, usual};
        const auto again = readStudyText(studyText(study));
        QVERIFY2(again, again ? "" : again.error().text().c_str());
        QVERIFY(again->report == study.report);
        std::string wrong = studyText(study);
        wrong.replace(wrong.find("\"own\""), 5, "\"odd\"");
        const auto refused = readStudyText(wrong);
        QVERIFY(!refused);
        QVERIFY(refused.error().text().find("classical, robust, own") != std::string::npos);
    }

    void aHeadStaysWithItsQuestion() {
        Hard three(3, 3);
        ReportItem table("table", {"q1", "q2", "q3"});
        table.table.heads = {"first", "", "third"};
        three.study.report = {table};
        // The first has no answer: the heads of the others are theirs.
        three.answers[0].refusal = Refusal{ErrorCode::BadSetting, "no", "here", "."};
        const auto blocks = buildReport(three.study, three.byId, &*three.frame);
        const auto found = std::find_if(blocks.begin(), blocks.end(), [](const ReportBlock& b) {
            return b.kind == ReportBlock::Kind::Table;
        });
        QVERIFY(found != blocks.end());
        const CellRow& heads = found->cells[found->heads - 1];
        QCOMPARE(heads.size(), std::size_t{3});
        QVERIFY(heads[1].text.starts_with("(1) column 2"));
        QCOMPARE(heads[1].part, std::string("head:1"));
        QCOMPARE(heads[2].text, std::string("(2) third"));
        QCOMPARE(heads[2].part, std::string("head:2"));
        // And the page knows where they stand.
        ReportPages pages;
        pages.blocks = blocks;
        const auto press = Press::make(pages);
        QVERIFY(press);
        std::set<std::string> parts;
        for (const Press::Place& place : (*press)->places()) {
            if (!place.part.empty()) {
                parts.insert(place.part);
                QVERIFY(place.width > 10.0 && place.height > 5.0);
            }
        }
        QCOMPARE(parts, (std::set<std::string>{"head:1", "head:2"}));
    }
};

QTEST_APPLESS_MAIN(ReportFiguresTest)
#include "report_figures_test.moc"
