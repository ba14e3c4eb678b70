// Every reading with an example: docs/readings.md is what the program says of made-up rows, so that
// it can be read as a referee would. RAPPORTO_WRITE_READINGS=1 writes it; else it is compared,
// digits apart.
#include "core/paths/trace.h"
#include "core/paths/trace_edits.h"
#include "core/paths/trace_kind.h"
#include "core/report/defence_wording.h"
#include "core/report/request_wording.h"
#include "core/report/wording.h"
#include "tests/core/relations_data.h"

#include <QTest>

#include <cctype>
#include <sstream>

using namespace rapporto;
using namespace rapporto::test;

namespace {

Answer ask(const Columns& columns, const Question& q, const Layout& layout = relationLayout()) {
    return answer(tableOf(columns), q, layout, relationEntries());
}

const Columns& rows() {
    static const Columns kRows = relationColumns(40, 6, 17);
    return kRows;
}

/// Rows in time where nothing holds: bent, fanning, drifting, carried over, with odd rows.
Columns troubled() {
    RandomStream random(99, 0);
    const auto normal = [&] { return normalQuantile(random.uniform() + 0x1.0p-54); };
    Columns out = {{"t", {}}, {"x", {}}, {"z", {}}, {"v", {}}, {"g", {}}, {"c", {}},
                   {"w", {}}, {"y", {}}, {"k", {}}, {"b", {}}, {"o", {}}};
    double carried = 0.0;
    for (int i = 0; i < 240; ++i) {
        const double x = std::abs(normal()) + 0.2;
        const double z = normal();
        carried = 0.8 * carried + normal();
        const double shared = std::sin(1.7 * (i / 6));
        const double y = 1.0 + x + 0.8 * x * x + 0.5 * z * x + 0.01 * i + shared +
                         (0.3 + x) * carried + (i % 60 == 7 ? 25.0 : 0.0) +
                         (i > 150 ? 3.0 * z : 0.0);
        const double values[] = {
            double(i),
            x,
            z,
            x + 0.02 * z + 0.01 * normal(),
            double(i % 3 + 1),
            double(i / 6),
            0.2 + x * x,
            y,
            std::floor(std::exp(0.5 + 0.4 * z + 0.9 * normal())) * (i % 3 == 0 ? 0.0 : 1.0),
            x * x - 1.2 + 0.4 * normal() > 0.0 ? 1.0 : 0.0,
            z + normal() > 0.8           ? 2.0
            : (x - 1.0) + normal() > 0.0 ? 1.0
                                         : 0.0};
        for (std::size_t c = 0; c < out.size(); ++c) {
            out[c].second.push_back(values[c]);
        }
    }
    return out;
}

std::string withoutDigits(const std::string& text) {
    std::string out;
    for (const char c : text) {
        const bool digit = std::isdigit(static_cast<unsigned char>(c)) != 0;
        if (!digit || out.empty() || out.back() != '#') {
            out += digit ? '#' : c;
        }
    }
    return out;
}

void put(std::ostringstream& out, const std::string& text) { out << "- " << text << "\n"; }

void putMethods(std::ostringstream& out) {
    out << "## Methods\n";
    for (const Estimator& estimator : allEstimators()) {
        Question q = relationQuestion(estimator.method);
        q.checks.clear();
        q.allChecks = false;
        if (estimator.takes & takes::kLeverageTypes) {
            q.errors = ErrorSpec{"robust", "HC1", {}};
        }
        const Answer a = ask(rows(), q);
        out << "\n### `" << estimator.method << "`\n";
        put(out, questionSentence(q));
        put(out, answerReading(a));
        for (std::size_t j = 0; a.fit && j < a.fit->coefficients.size(); ++j) {
            if (a.fit->coefficients[j].designTerm >= 0) {
                for (const std::string& text : effectReading(a, j)) {
                    put(out, text);
                }
                break;
            }
        }
        put(out, methodsReading(a));
    }
}

/// How x reaches y through z, and z alone through v.
Question traceQuestion(const std::string& interval) {
    Question q;
    q.id = "q1";
    q.kind = "trace";
    const auto path = [](const std::string& to, const std::vector<std::string>& from) {
        PathSpec made;
        made.to = to;
        for (const std::string& one : from) {
            made.from.push_back(Term::expression(one));
        }
        return made;
    };
    q.trace.paths = {path("z", {"x"}), path("m", {"z", "i1"}), path("y", {"m", "z"})};
    q.trace.interval = interval;
    q.trace.draws = 100;
    q.trace.effects = {tracedPair("x", "y"), tracedPair("z", "y")};
    return q;
}

void putTraces(std::ostringstream& out) {
    out << "\n## Traces\n\n";
    for (const char* interval : {"delta", "percentile"}) {
        const Question q = traceQuestion(interval);
        const Answer a = ask(rows(), q);
        put(out, questionSentence(q));
        put(out, answerReading(a));
        put(out, methodsReading(a));
        for (std::size_t k = 0; k < a.trace->effects.size(); ++k) {
            for (const std::string& text : tracedEffectReading(a, k)) {
                put(out, text);
            }
        }
        for (const std::string& text : arrowReading(a, 0)) {
            put(out, text);
        }
    }
    Question one = traceQuestion("delta");
    one.trace.paths = {one.trace.paths[0], one.trace.paths[2]};
    one.trace.paths[0].from = {Term::expression("x")};
    one.trace.paths[1].from = {Term::expression("z"), Term::expression("x")};
    one.trace.effects = {tracedPair("x", "y")};
    const Answer a = ask(rows(), one);
    put(out, answerReading(a));
    put(out, sensitivityReading(a.trace->sensitivity.front()));
    one.trace.muted = {"z"};
    put(out, answerReading(ask(rows(), one)));
    one.trace.muted = {};
    one.trace.paths[0].from.push_back(Term::expression("y"));
    put(out, answerReading(ask(rows(), one)));
}

/// The made-up rows with some outcomes gone, oftener where z is high.
Columns unseen() {
    Columns out = rows();
    for (auto& [name, cells] : out) {
        for (std::size_t i = 0; name == "y" && i < cells.size(); ++i) {
            const double z = std::find_if(out.begin(), out.end(), [](const auto& c) {
                                 return c.first == "z";
                             })->second[i];
            cells[i] = z > 0.8 && i % 3 == 0 ? std::nan("") : cells[i];
        }
    }
    return out;
}

/// Questions of which an effect is to be defended: a strong one and a weak one.
std::vector<Question> defended() {
    std::vector<Question> out;
    for (const char* of : {"x", "z > 0.8"}) {
        Question q = explain("y", {"x", "z > 0.8", "g"});
        q.leftOut = LeftOutRequest{of, {Term::expression("g")}, {1.0, 2.0}};
        q.byLot = LotRequest{of, {"g"}, "", 999, 5};
        q.worstCases = WorstCaseRequest{of};
        q.planned = {{of, 0.2}, {of, 0.2, 0.9}};
        out.push_back(q);
    }
    out.push_back(explain("y", {"x"}));
    out.back().byLot = LotRequest{"x", {}, "u"};
    out.back().worstCases = WorstCaseRequest{"nobody"};
    return out;
}

void putDefended(std::ostringstream& out) {
    out << "\n## An effect defended, moments to come\n\n";
    for (const Question& q : defended()) {
        const Answer a = ask(unseen(), q, {});
        const std::string of = q.byLot->of;
        for (const std::string& one : defenceReading(a, of)) {
            put(out, "of `" + of + "`: " + one);
        }
    }
    Question ahead = explain("y", {"x", "lag(y)"});
    ahead.allChecks = false;
    ahead.forecast = ForecastRequest{4, {{"x", {"mean", {}}}}};
    const Layout series{Layout::Kind::Series, "", "t", ""};
    for (const std::string& one : forecastReading(ask(troubled(), ahead, series))) {
        put(out, "foretold: " + one);
    }
    ahead.forecast->terms["x"].way = "season";
    for (const std::string& one : forecastReading(ask(troubled(), ahead, series))) {
        put(out, "foretold: " + one);
    }
}

void putChecks(std::ostringstream& out) {
    std::map<std::string, std::map<std::string, std::string>> found;
    const auto gather = [&](const Answer& a) {
        for (const CheckResult& c : a.checks) {
            found[c.id].emplace(verdictName(c.verdict), c.reading);
        }
    };
    for (const Estimator& estimator : allEstimators()) {
        gather(ask(rows(), relationQuestion(estimator.method)));
    }
    for (const char* interval : {"delta", "percentile"}) {
        gather(ask(rows(), traceQuestion(interval)));
    }
    Question weighted = relationQuestion("least-squares");
    weighted.weightKind = WeightKind::Sampling;
    weighted.weight = "w";
    gather(ask(rows(), weighted));
    const Layout series{Layout::Kind::Series, "", "t", ""};
    Question bad = explain("y", {"x", "z", "v", "g"});
    gather(ask(troubled(), bad, series));
    bad.checks = {CheckRequest{"chow"}, CheckRequest{"groupwise"}, CheckRequest{"intraclass"}};
    bad.checks[0].by = "g";
    bad.checks[1].by = "g";
    bad.checks[2].by = "c";
    bad.allChecks = false;
    gather(ask(troubled(), bad, series));
    Question heavy = explain("y", {"x", "z"});
    heavy.weightKind = WeightKind::Sampling;
    heavy.weight = "w";
    gather(ask(troubled(), heavy, series));
    for (const auto& [method, outcome] :
         {std::pair("poisson", "k"), std::pair("logit", "b"), std::pair("ordered-logit", "o")}) {
        Question q = explain(outcome, {"x", "z"});
        q.method = method;
        gather(ask(troubled(), q, {}));
    }
    Question pooled = explain("y", {"x", "z"});
    gather(ask(rows(), pooled));
    Question levels = explain("y", {"x", "z"});
    levels.method = "multilevel";
    levels.settings.levels = {{"c"}};
    gather(ask(troubled(), levels, {}));
    levels.settings.levels = {{"c", {"x"}}, {"g"}};
    gather(ask(troubled(), levels, {}));
    for (const Question& q : defended()) {
        gather(ask(unseen(), q, {}));
    }
    out << "\n## Checks\n";
    for (const Check& check : allChecks()) {
        out << "\n### " << check.group << " " << check.name << " (`" << check.id << "`)\n";
        put(out, std::string("asks: ") + check.null);
        put(out, std::string("rule: ") + check.rule);
        for (const char* verdict : {"fine", "noted", "weigh", "fails", "not-applicable"}) {
            if (const auto at = found[check.id].find(verdict); at != found[check.id].end()) {
                put(out, std::string("**") + verdict + "**: " + at->second);
            }
        }
    }
}

void putRequests(std::ostringstream& out) {
    out << "\n## Statements, predictions, effects\n\n";
    Question q = relationQuestion("least-squares");
    q.allChecks = false;
    q.hypotheses = {"x = 0", "x = 0.6", "x > 0", "x < 0", "x = 0 and z = 0", "x = z", "q = 0"};
    q.predict = {{{{"x", Key(0.5)}}, ""}, {{{"x", Key(9.0)}}, ""}};
    const Answer a = ask(rows(), q);
    for (std::size_t i = 0; i < a.hypotheses.size(); ++i) {
        put(out, "`" + q.hypotheses[i] + "`: " + hypothesisReading(a, i));
    }
    for (const Prediction& p : *a.predictions) {
        for (const std::string& warning : p.warnings) {
            put(out, "prediction: " + warning);
        }
    }
    Question groups = relationQuestion("multinomial-logit");
    groups.allChecks = false;
    groups.hypotheses = {"x = 0", "x > 0"};
    const Answer several = ask(rows(), groups);
    for (std::size_t i = 0; i < several.hypotheses.size(); ++i) {
        put(out,
            "`" + groups.hypotheses[i] + "` of several groups: " + hypothesisReading(several, i));
    }
}

void putSpecial(std::ostringstream& out) {
    out << "\n## Special answers\n\n";
    const auto reading = [&](const std::string& what, const Question& q) {
        const Answer a = ask(rows(), q);
        put(out, what + ": " + (a.refusal ? a.refusal->text() : answerReading(a)));
    };
    Question q = relationQuestion("least-squares");
    q.allChecks = false;
    const Question plain = q;
    q.terms.clear();
    reading("a constant alone", q);
    q = plain;
    q.terms.push_back(Term::expression("2 * y"));
    reading("a perfect fit", q);
    q.terms.back() = Term::expression("y");
    reading("the outcome among its terms", q);
    q = plain;
    q.errors = ErrorSpec{"clustered", "HC1", {"t"}};
    reading("few clusters", q);
    q = plain;
    q.fixedEffects = {"u"};
    q.errors = ErrorSpec{"clustered", "HC1", {"u"}};
    reading("clustered by what is held fixed", q);
    q = plain;
    q.endogenous = {Term::expression("m")};
    q.instruments = {Term::expression("i1")};
    reading("least squares beside instruments", q);
    q.method = "logit";
    q.outcome = "b";
    reading("instruments without use", q);
    q = plain;
    q.method = "quantile";
    q.settings.at = {0.97};
    reading("a quantile far out", q);
    q.settings.at = {0.999};
    reading("a quantile beyond the rows", q);
    q = plain;
    q.method = "poisson";
    q.outcome = "k";
    q.weightKind = WeightKind::Precision;
    q.weight = "w";
    reading("precision weights of a likelihood", q);
    q = plain;
    q.errors.kind = "survey";
    reading("a design that is not declared", q);
    q = plain;
    q.method = "huber";
    q.errors = ErrorSpec{"robust", "HC3", {}};
    reading("a leverage that is not there", q);
    q = plain;
    q.where = "x > 100";
    reading("no row left", q);
    q.where = "g = 1";
    q.outcome = "g";
    reading("an outcome that does not vary", q);
    q = plain;
    q.outcome = "y * 1e90";
    reading("numbers out of range", q);
}

}  // namespace

class ReadingsTest : public QObject {
    Q_OBJECT

  private slots:

    void areWrittenDown() {
        std::ostringstream out;
        out << "# Readings\n\nWhat the program says, with an example of made-up rows each. Written "
               "by "
               "`tests/core/readings_test.cpp`\n(`RAPPORTO_WRITE_READINGS=1 ./dev test readings`), "
               "which fails where a sentence changes and this page does not.\n\n";
        putMethods(out);
        putTraces(out);
        putChecks(out);
        putRequests(out);
        putSpecial(out);
        putDefended(out);
        const std::string path = std::string(RAPPORTO_SOURCE_DIR) + "/docs/readings.md";
        if (qEnvironmentVariableIsSet("RAPPORTO_WRITE_READINGS")) {
            std::ofstream(path) << out.str();
        }
        std::ifstream in(path);
        std::string line;
        std::istringstream now(out.str());
        std::string own;
        int at = 0;
        while (std::getline(now, own)) {
            ++at;
            QVERIFY2(std::getline(in, line) && withoutDigits(line) == withoutDigits(own),
                     ("line " + std::to_string(at) + ": " + own).c_str());
        }
        QVERIFY(!std::getline(in, line));
    }

    /// What the words of one test say of a p must be what the verdict says.
    void smallChancesDoNotReadAsNoSign() {
        for (const Estimator& estimator : allEstimators()) {
            for (const CheckResult& c : ask(rows(), relationQuestion(estimator.method)).checks) {
                const bool none = c.reading.find("no sign") != std::string::npos;
                QVERIFY2(!none || !c.p || *c.p >= 0.05 || c.verdict == Verdict::Fine,
                         (c.id + ": " + c.reading).c_str());
                QVERIFY2(c.reading.find("nan") == std::string::npos, c.reading.c_str());
            }
        }
    }
};

QTEST_APPLESS_MAIN(ReadingsTest)
#include "readings_test.moc"
