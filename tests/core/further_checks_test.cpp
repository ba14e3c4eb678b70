// The further checks of least squares against definitions worked out by refitting.
#include "core/checks/check.h"
#include "core/study/study.h"
#include "tests/core/fixtures.h"

#include <QTest>

#include <chrono>

using namespace rapporto;
using namespace rapporto::test;

namespace {

const nlohmann::json& reference() {
    static const nlohmann::json kReference = readJson("tests/reference/checks_reference.json");
    return kReference;
}

Table tableFor(const nlohmann::json& data) {
    std::vector<std::pair<std::string, std::vector<double>>> columns;
    for (const char* name : {"t", "x", "z", "g", "c", "y", "w"}) {
        if (data.contains(name)) {
            columns.emplace_back(name, data[name].get<std::vector<double>>());
        }
    }
    Table table = tableOf(columns);
    for (Variable& variable : table.variables) {
        if (variable.name == "g" || variable.name == "c") {
            variable.measure = Measure::Groups;
        }
    }
    return table;
}

Answer answered(const Table& table, std::vector<CheckRequest> checks,
                const Layout& layout = {Layout::Kind::Series, "", "t", ""}) {
    Question q = explain("y", {"x", "z", "g"});
    q.allChecks = checks.empty();
    q.checks = std::move(checks);
    const bool weighted = std::any_of(table.variables.begin(), table.variables.end(),
                                      [](const Variable& v) { return v.name == "w"; });
    if (weighted) {
        q.weightKind = WeightKind::Precision;
        q.weight = "w";
    }
    return answer(table, q, layout);
}

CheckRequest asked(const std::string& id) {
    CheckRequest request{id};
    if (id == "intraclass") {
        request.by = "c";
    }
    if (id == "chow by g") {
        request.id = "chow";
        request.by = "g";
    }
    if (id == "chow at 60") {
        request.id = "chow";
        request.at = "60";
    }
    return request;
}

bool close(double a, double b) { return std::abs(a - b) <= 1e-8 * std::max(1.0, std::abs(b)); }

}  // namespace

class FurtherChecksTest : public QObject {
    Q_OBJECT

  private slots:

    void agreeWithTheirDefinitions_data() {
        QTest::addColumn<QString>("kind");
        QTest::newRow("clean") << "clean";
        QTest::newRow("fails") << "fails";
        QTest::newRow("awkward") << "awkward";
        QTest::newRow("clean, weighted") << "clean, weighted";
        QTest::newRow("fails, weighted") << "fails, weighted";
    }

    void agreeWithTheirDefinitions() {
        QFETCH(QString, kind);
        const auto& set = reference()[kind.toStdString()];
        const Table table = tableFor(set["data"]);
        for (const auto& [id, expected] : set["checks"].items()) {
            const Answer a = answered(table, {asked(id)});
            QVERIFY2(a.checks.size() == 1, id.c_str());
            const CheckResult& c = a.checks.front();
            QVERIFY2(c.statistic.has_value(), (id + ": " + c.reading).c_str());
            for (const auto& [key, value] : expected.items()) {
                const double found = key == "statistic" ? *c.statistic
                                     : key == "p"       ? *c.p
                                     : key == "df1"     ? c.df.front()
                                                        : detail(c, key);
                QVERIFY2(close(found, value.get<double>()),
                         qPrintable(QString("%1, %2: %3 for %4")
                                        .arg(id.c_str(), key.c_str())
                                        .arg(found, 0, 'g', 17)
                                        .arg(value.get<double>(), 0, 'g', 17)));
            }
            QVERIFY2(c.reading.size() > 40 && !c.exhibit.title.empty(), id.c_str());
        }
    }

    void verdictsFollowTheData() {
        const auto verdicts = [](const char* kind) {
            std::map<std::string, Verdict> out;
            for (const CheckResult& c : answered(tableFor(reference()[kind]["data"]), {}).checks) {
                out[c.id] = c.verdict;
            }
            return out;
        };
        auto clean = verdicts("clean");
        auto fails = verdicts("fails");
        for (const char* id : {"harvey", "glejser", "goldfeld-quandt", "groupwise", "cusum",
                               "dffits", "condition", "rainbow"}) {
            QVERIFY2(clean.at(id) == Verdict::Fine, id);
        }
        for (const char* id :
             {"glejser", "goldfeld-quandt", "link", "interactions", "ljung-box", "runs"}) {
            QVERIFY2(fails.at(id) != Verdict::Fine && fails.at(id) != Verdict::NotApplicable, id);
        }
        // Every registered check has an answer, and says why where it has none.
        QCOMPARE(clean.size(), checksOfOneEquation());
    }

    void orderMeansNothingInACrossSection() {
        const Table table = tableFor(reference()["clean"]["data"]);
        for (const char* id : {"ljung-box", "runs", "arch", "cusum", "cusum-squares"}) {
            const Answer a = answered(table, {CheckRequest{id}}, {});
            QVERIFY2(a.checks[0].verdict == Verdict::NotApplicable, id);
            QVERIFY2(
                !a.checks[0].statistic && a.checks[0].reading.find("no order") != std::string::npos,
                id);
        }
    }

    void whatCannotBeAnsweredSaysWhy() {
        const Table table = tableFor(reference()["awkward"]["data"]);
        const auto reading = [&](CheckRequest request) {
            const Answer a = answered(table, {std::move(request)});
            return a.checks[0].verdict == Verdict::NotApplicable ? a.checks[0].reading
                                                                 : std::string();
        };
        CheckRequest chow{"chow"};
        chow.by = "nobody";
        QVERIFY(reading(chow).find("nobody") != std::string::npos);
        chow.by = "t";  // Every row a group.
        QVERIFY(reading(chow).find("too few rows") != std::string::npos);
        QVERIFY(reading(CheckRequest{"intraclass"}).find("No clusters") != std::string::npos);
        CheckRequest ends{"goldfeld-quandt"};
        ends.drop = 0.7;
        QVERIFY(reading(ends).find("too few rows") != std::string::npos);
        // A perfect fit leaves nothing to test.
        Table perfect = tableOf({{"t", {1, 2, 3, 4, 5, 6, 7, 8}},
                                 {"x", {1, 2, 3, 4, 5, 6, 7, 9}},
                                 {"z", {1, 0, 1, 1, 0, 0, 1, 0}},
                                 {"g", {1, 2, 1, 2, 1, 2, 1, 2}},
                                 {"c", {1, 1, 2, 2, 3, 3, 4, 4}},
                                 {"y", {2, 4, 6, 8, 10, 12, 14, 18}}});
        perfect.variables[3].measure = Measure::Groups;
        for (const CheckResult& c : answered(perfect, {}).checks) {
            QVERIFY2(!c.statistic || std::isfinite(*c.statistic), c.id.c_str());
            QVERIFY2(!c.p || (*c.p >= 0.0 && *c.p <= 1.0), c.id.c_str());
        }
    }

    void theyDoNotHangOnUnitsOrRowOrder() {
        const auto& set = reference()["fails"];
        const Table table = tableFor(set["data"]);
        Table other = table;
        const std::size_t n = table.rows();
        for (std::size_t j = 0; j < table.columns.size(); ++j) {
            std::vector<double> cells(n);
            const double unit = j == 1 ? 1000.0 : j == 5 ? 0.01 : 1.0;
            for (std::size_t i = 0; i < n; ++i) {
                cells[i] = unit * table.columns[j].numbers()[(i * 7 + 3) % n];
            }
            other.columns[j] = Column::ofNumbers(table.columns[j].name(), cells);
        }
        const Answer a = answered(table, {});
        const Answer b = answered(other, {});
        for (std::size_t k = 0; k < a.checks.size(); ++k) {
            QCOMPARE(a.checks[k].verdict, b.checks[k].verdict);
            if (a.checks[k].p) {
                QVERIFY2(std::abs(*a.checks[k].p - *b.checks[k].p) < 1e-7, a.checks[k].id.c_str());
            }
        }
    }

    void errorsAllowForAutocorrelation() {
        const auto& cases = reference()["newey-west"];
        for (const auto& [name, expected] : cases.items()) {
            const Table whole = tableFor(reference()["fails"]["data"]);
            Table table = whole;
            std::vector<std::size_t> kept;
            for (std::size_t i = 0; i < whole.rows(); ++i) {
                const auto t = static_cast<int>(whole.columns[0].numbers()[i]);
                const auto gone = expected["gone"].get<std::vector<int>>();
                if (std::find(gone.begin(), gone.end(), t) == gone.end()) {
                    kept.push_back(i);
                }
            }
            // Backwards: the order of the rows is nothing, their moments all.
            std::reverse(kept.begin(), kept.end());
            for (Column& column : table.columns) {
                std::vector<double> cells;
                for (const std::size_t i : kept) {
                    cells.push_back(column.numbers()[i]);
                }
                column = Column::ofNumbers(column.name(), cells);
            }
            Question q = explain("y", {"x", "z"});
            q.errors.kind = "autocorrelation";
            q.errors.automaticLags = name == "automatic";
            if (name == "four" || name == "gaps") {
                q.errors.lags = 4;
            }
            const Answer a = answer(table, q, {Layout::Kind::Series, "", "t", ""});
            QVERIFY2(a.fit != nullptr, a.refusal ? a.refusal->text().c_str() : "");
            QCOMPARE(QString::fromStdString(a.fit->errorNote).section(' ', 0, 0).toInt(),
                     expected["lags"].get<int>());
            for (std::size_t j = 0; j < 3; ++j) {
                QVERIFY2(near(a.fit->coefficients[j].se, expected["se"][j].get<double>(), 1e-9),
                         qPrintable(QString("%1 %2").arg(name.c_str()).arg(j)));
            }
        }
        Question q = explain("y", {"x", "z"});
        q.errors.kind = "autocorrelation";
        const Table table = tableFor(reference()["clean"]["data"]);
        QCOMPARE(answer(table, q).refusal->code, ErrorCode::BadSetting);
        q.errors.lags = 90;
        QCOMPARE(answer(table, q, {Layout::Kind::Series, "", "t", ""}).refusal->code,
                 ErrorCode::BadSetting);
        // A remedy where errors carry over.
        bool offered = false;
        for (const CheckResult& c :
             answered(tableFor(reference()["fails"]["data"]), {CheckRequest{"ljung-box"}}).checks) {
            for (const Remedy& remedy : c.remedies) {
                offered = offered || remedy.variant.errors.kind == "autocorrelation";
            }
        }
        QVERIFY(offered);
    }

    void theLawOfTheLargestBreak() {
        // Critical values at 5 % for one to three coefficients, as published for 15 % trimming.
        const auto& set = reference()["clean"]["data"];
        for (const auto& [terms, critical] :
             std::vector<std::pair<std::vector<std::string>, double>>{
                 {{}, 8.68}, {{"x"}, 11.72}, {{"x", "z"}, 14.13}}) {
            Question q = explain("y", terms);
            q.allChecks = false;
            q.checks = {CheckRequest{"sup-f"}};
            const CheckResult c =
                answer(tableFor(set), q, {Layout::Kind::Series, "", "t", ""}).checks.front();
            const double k = static_cast<double>(terms.size()) + 1.0;
            QVERIFY2(std::abs(detail(c, "bound") * k - critical) < 0.15,
                     qPrintable(QString::number(detail(c, "bound") * k)));
        }
    }

    void aBreakOffersItsTwoSides() {
        // A level that jumps in March 2003, by day: the remedies are rules on the date.
        std::vector<double> day;
        std::vector<double> y;
        std::vector<double> x;
        for (int i = 0; i < 96; ++i) {
            const int month = i % 12;
            day.push_back(static_cast<double>(
                std::chrono::sys_days(std::chrono::year(2000 + i / 12) / (month + 1) / 1)
                    .time_since_epoch()
                    .count()));
            x.push_back(std::sin(1.7 * i));
            y.push_back(1.0 + x.back() + (i >= 38 ? 3.0 : 0.0) + 0.3 * std::cos(5.1 * i));
        }
        Table t = tableOf({{"day", day}, {"x", x}, {"y", y}});
        t.variables[0].measure = Measure::Date;
        Question q = explain("y", {"x"});
        q.allChecks = false;
        q.checks = {CheckRequest{"sup-f"}, CheckRequest{"recursive"}};
        const Layout layout{Layout::Kind::Series, "", "day", ""};
        const Answer a = answer(t, q, layout);
        QCOMPARE(a.checks[0].verdict, Verdict::Fails);
        QCOMPARE(detail(a.checks[0], "row of the break"), 39.0);
        QVERIFY(a.checks[0].headline.find("2003-03-01") != std::string::npos);
        QCOMPARE(a.checks[1].verdict, Verdict::Fails);
        QCOMPARE(a.checks[0].remedies.size(), std::size_t{2});
        std::vector<std::size_t> sizes;
        for (const Remedy& remedy : a.checks[0].remedies) {
            const Answer part = answer(t, remedy.variant, layout);
            QVERIFY2(!part.refusal, part.refusal ? part.refusal->text().c_str() : "");
            sizes.push_back(part.rows.used);
        }
        QCOMPARE(sizes, (std::vector<std::size_t>{38, 58}));
        Question bad = q;
        bad.where = "day < 'soon'";
        QCOMPARE(answer(t, bad, layout).refusal->code, ErrorCode::WrongType);
        bad.where = "day < '2001-02-30'";
        QCOMPARE(answer(t, bad, layout).refusal->code, ErrorCode::WrongType);
        bad.where = "day between '2001' and '2001-12'";
        QCOMPARE(answer(t, bad, layout).rows.used, std::size_t{12});
    }

    void aQuestionOfTheListHasOneVerdict() {
        const auto result = [](const char* id, Verdict verdict) {
            CheckResult r;
            r.id = id;
            r.verdict = verdict;
            return r;
        };
        const auto groups = verdictsByGroup(
            {result("jarque-bera", Verdict::Weigh), result("durbin-watson", Verdict::NotApplicable),
             result("shapiro-wilk", Verdict::Fails), result("white", Verdict::Fine),
             result("lilliefors", Verdict::Fails), result("no such check", Verdict::Fails)});
        QCOMPARE(groups.size(), std::size_t{3});
        QCOMPARE(groups[0].worst, Verdict::Fails);
        QCOMPARE(groups[0].names, (std::vector<std::string>{"Shapiro–Wilk", "Lilliefors"}));
        QCOMPARE(groups[1].worst, Verdict::NotApplicable);
        QCOMPARE(groups[2].worst, Verdict::Fine);
        QVERIFY(verdictsByGroup({}).empty());
    }

    void testsOfOneNullAreWeighed() {
        const auto result = [](const char* id, Verdict verdict, double p, double statistic,
                               double df) {
            CheckResult r;
            r.id = id;
            r.verdict = verdict;
            r.p = p;
            r.statistic = statistic;
            r.df = {df};
            r.distribution = "chi2";
            r.headline = "p " + std::to_string(p);
            return r;
        };
        // One of five below .05 is what chance gives: told, not counted.
        const auto chance = verdictsByGroup({result("breusch-pagan", Verdict::Fine, 0.4, 1.8, 2),
                                             result("white", Verdict::Fine, 0.6, 3.6, 5),
                                             result("harvey", Verdict::Weigh, 0.03, 7.0, 2),
                                             result("glejser", Verdict::Fine, 0.3, 2.4, 2),
                                             result("groupwise", Verdict::Fine, 0.5, 1.4, 2)});
        QCOMPARE(chance[0].worst, Verdict::Noted);
        QCOMPARE(chance[0].names, std::vector<std::string>{"Harvey"});
        // The one that suits most cases speaks at its own level.
        const auto spoken = verdictsByGroup({result("breusch-pagan", Verdict::Weigh, 0.03, 7.0, 2),
                                             result("white", Verdict::Fine, 0.35, 10.0, 9),
                                             result("harvey", Verdict::Fine, 0.3, 2.4, 2)});
        QCOMPARE(spoken[0].worst, Verdict::Weigh);
        // What its silence is worth: P(χ²(9, λ = 5) > 16.919) = .281 (scipy.stats.ncx2).
        QVERIFY2(spoken[0].reading.find("28 samples of 100") != std::string::npos,
                 spoken[0].reading.c_str());
        QVERIFY(spoken[0].reading.find("says little") != std::string::npos);
        // Others count after Holm: .004 of five stands.
        const auto other = verdictsByGroup({result("breusch-pagan", Verdict::Fine, 0.4, 1.8, 2),
                                            result("white", Verdict::Fails, 0.004, 17.0, 5),
                                            result("harvey", Verdict::Fine, 0.3, 2.4, 2)});
        QCOMPARE(other[0].worst, Verdict::Fails);
        QCOMPARE(other[0].ids, std::vector<std::string>{"white"});
    }

    void errorsThatAllowForADoubtCloseIt() {
        // Units of eight moments with effects of their own: rows of a unit hang together.
        std::vector<double> unit;
        std::vector<double> moment;
        std::vector<double> x;
        std::vector<double> y;
        std::vector<double> region;
        for (int u = 0; u < 40; ++u) {
            const double own = std::sin(u * 12.9898) * 2.0;
            for (int t = 0; t < 8; ++t) {
                unit.push_back(u);
                moment.push_back(t);
                region.push_back(u / 5);
                x.push_back(std::sin(u * 7.1 + t * 3.3));
                y.push_back(own + x.back() + 0.5 * std::sin(u * 3.7 + t * 91.7));
            }
        }
        Table table =
            tableOf({{"unit", unit}, {"moment", moment}, {"region", region}, {"x", x}, {"y", y}});
        for (const std::size_t c : {0UL, 2UL}) {
            table.variables[c].measure = Measure::Groups;
        }
        const Layout layout{Layout::Kind::Panel, "unit", "moment", ""};
        const auto verdict = [&](const ErrorSpec& errors, const std::string& by) {
            Question q = explain("y", {"x"});
            q.errors = errors;
            q.allChecks = false;
            CheckRequest request{"intraclass"};
            request.by = by;
            q.checks = {request};
            return check(answer(table, q, layout), "intraclass").verdict;
        };
        QVERIFY(isDoubt(verdict({}, "")));
        QCOMPARE(verdict({"clustered", "HC1", {"unit"}}, ""), Verdict::AllowedFor);
        ErrorSpec drawn{"bootstrap", "HC1", {"unit"}};
        drawn.scheme = "clusters";
        drawn.draws = 99;
        QCOMPARE(verdict(drawn, ""), Verdict::AllowedFor);
        // Clusters of another kind than the errors’ are another question.
        QVERIFY(isDoubt(verdict({"clustered", "HC1", {"moment"}}, "unit")));
        const Answer a = [&] {
            Question q = explain("y", {"x"});
            q.errors = {"clustered", "HC1", {"unit"}};
            return answer(table, q, layout);
        }();
        for (const GroupVerdict& one : verdictsByGroup(a.checks, a.alpha)) {
            QVERIFY(one.group != findCheck("intraclass")->group || !isDoubt(one.worst));
        }
    }

    /// What errors allow for is said once, whichever test finds it.
    void errorsThatAllowForASpreadSaySoOnce() {
        std::vector<double> x;
        std::vector<double> y;
        for (int i = 0; i < 400; ++i) {
            x.push_back(1.0 + i % 40);
            y.push_back(x.back() + 0.2 * x.back() * std::sin(i * 12.9898));
        }
        for (const ErrorSpec& errors : {ErrorSpec{}, ErrorSpec{"robust", "HC3", {}}}) {
            Question q = explain("y", {"x"});
            q.errors = errors;
            const Answer a = answer(tableOf({{"x", x}, {"y", y}}), q);
            for (const char* id : {"breusch-pagan", "white", "harvey", "glejser"}) {
                const CheckResult& one = check(a, id);
                const auto first = one.reading.find("allow for it");
                if (errors.allowUnevenSpread()) {
                    QCOMPARE(one.verdict, Verdict::AllowedFor);
                    QVERIFY2(first != std::string::npos, one.reading.c_str());
                    QVERIFY2(one.reading.find("allow for it", first + 1) == std::string::npos,
                             one.reading.c_str());
                } else {
                    QVERIFY(isDoubt(one.verdict) && first == std::string::npos);
                }
            }
        }
    }

    void manyColumnsInOnePassSayTheSame() {
        // Tall enough for the pass over rows; held against adding one square and one product.
        constexpr std::size_t kRows = 120000;
        std::vector<std::vector<double>> cells(5, std::vector<double>(kRows));
        for (std::size_t i = 0; i < kRows; ++i) {
            for (std::size_t j = 0; j < 4; ++j) {
                cells[j][i] = std::sin(static_cast<double>(i * (2 * j + 3)) * 0.7331 +
                                       static_cast<double>(j));
            }
            cells[4][i] = cells[0][i] + 0.05 * cells[1][i] * cells[2][i] +
                          0.03 * cells[3][i] * cells[3][i] +
                          std::sin(static_cast<double>(i) * 12.9898);
        }
        const Table table = tableOf(
            {{"a", cells[0]}, {"b", cells[1]}, {"c", cells[2]}, {"d", cells[3]}, {"y", cells[4]}});
        const auto fitted = [&](std::vector<std::string> terms) {
            Question q = explain("y", terms);
            q.allChecks = false;
            if (terms.size() == 4) {
                q.checks = {CheckRequest{"component-residual"}, CheckRequest{"interactions"}};
            }
            return answer(table, q);
        };
        const Answer plain = fitted({"a", "b", "c", "d"});
        const Answer square = fitted({"a", "b", "c", "d", "power(d, 2)"});
        const Answer product = fitted({"a", "b", "c", "d", "b * c"});
        const Coefficient& added = square.fit->coefficients.back();
        AGREE("t of the square", detail(check(plain, "component-residual"), "t d"),
              std::abs(*added.statistic), 1e-8);
        const double t = *product.fit->coefficients.back().statistic;
        AGREE("F of the product", *check(plain, "interactions").statistic, t * t, 1e-8);
    }

    void optionsAreReadAndWritten() {
        const std::string text = R"({"format": "rapporto-study", "version": 1,
            "source": {"kind": "table", "file": "a.csv"},
            "questions": [{"id": "q1", "kind": "explain", "outcome": "y", "terms": ["x"],
              "checks": [{"id": "chow", "by": "zone"}, {"id": "chow", "at_row": 120},
                {"id": "chow", "at": "2015-06"}, {"id": "goldfeld-quandt", "by": "x", "drop": 0.2},
                {"id": "ljung-box", "lags": 4}, "condition"]}]})";
        const auto study = readStudyText(text);
        QVERIFY(study.has_value());
        const Question& q = study->questions[0];
        QVERIFY2(!q.unbuilt, "an option was refused");
        QCOMPARE(q.checks[0].by, std::string("zone"));
        QCOMPARE(*q.checks[1].atRow, std::size_t{120});
        QCOMPARE(q.checks[2].at, std::string("2015-06"));
        QCOMPARE(*q.checks[3].drop, 0.2);
        QCOMPARE(*q.checks[4].lags, 4);
        const auto again = readStudyText(studyText(*study));
        QCOMPARE(again->questions[0].checks, q.checks);
        for (const char* lags : {"4", "\"automatic\""}) {
            std::string other = text;
            const std::string errors =
                std::string(R"("errors": {"kind": "autocorrelation", "lags": )") + lags + "}, ";
            other.insert(other.find("\"checks\""), errors);
            const auto asked = readStudyText(other);
            QVERIFY(asked && !asked->questions[0].unbuilt);
            QCOMPARE(readStudyText(studyText(*asked))->questions[0].errors,
                     asked->questions[0].errors);
            QCOMPARE(asked->questions[0].errors.automaticLags, lags[0] != '4');
        }
    }
};

QTEST_APPLESS_MAIN(FurtherChecksTest)
#include "further_checks_test.moc"
