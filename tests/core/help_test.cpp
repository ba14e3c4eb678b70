// What help says is made of the texts in docs/ and of the tables of checks and estimators.
#include "core/checks/check.h"
#include "core/model/fit.h"
#include "core/report/help_topics.h"
#include "tests/core/fixtures.h"

#include <QTest>

#include <set>

using namespace rapporto;

class HelpTest : public QObject {
    Q_OBJECT

  private slots:
    void explainsEveryCheck();
    void explainsEveryEstimator();
    void takesChaptersOfTheGuide();
    void saysWhenDataAreDoubted();
    void takesFormulasByTheirNames();
    void findsByWordsInAnyCase();
    void standsWithoutTexts();

  private:
    static std::string shipped(const std::string& name) {
        std::ifstream in(std::string(RAPPORTO_SOURCE_DIR) + "/docs/" + name);
        std::ostringstream all;
        all << in.rdbuf();
        return all.str();
    }

    const Help help_{{shipped("guide.md"), shipped("methods.md"), shipped("readings.md"),
                      shipped("data-doubts.md")}};
};

void HelpTest::explainsEveryCheck() {
    for (const Check& check : allChecks()) {
        const HelpTopic* topic = help_.topic(std::string("check:") + check.id);
        QVERIFY2(topic != nullptr, check.id);
        QCOMPARE(topic->title, std::string(check.name));
        for (const char* part : {check.null, check.rule, check.source}) {
            QVERIFY2(topic->markdown.find(part) != std::string::npos, check.id);
        }
        // What it computes, and how its verdicts read.
        const std::string named = std::string("`") + check.id + "`";
        QVERIFY2(check.isOfData() || topic->markdown.find("**Statistic:**") != std::string::npos ||
                     topic->markdown.find(named) != std::string::npos,
                 check.id);
        QVERIFY2(topic->markdown.find("**How it reads**") != std::string::npos, check.id);
        QVERIFY2(topic->markdown.find("- asks:") == std::string::npos, check.id);
    }
}

void HelpTest::explainsEveryEstimator() {
    for (const Estimator& estimator : allEstimators()) {
        const HelpTopic* topic = help_.topic(std::string("method:") + estimator.method);
        QVERIFY2(topic != nullptr, estimator.method);
        QCOMPARE(topic->title, std::string(estimator.shown));
        QVERIFY2(topic->markdown.find("**How it reads**") != std::string::npos, estimator.method);
    }
    // The paragraph that has its name, and those that name it.
    const std::string& plain = help_.topic("method:least-squares")->markdown;
    QVERIFY(plain.find("**Least squares:**") != std::string::npos);
    QVERIFY(plain.find("reorthogonalisation") != std::string::npos);
    const std::string& echo = help_.topic("method:feasible-ar")->markdown;
    QVERIFY(echo.find("**Echo:**") != std::string::npos);
}

void HelpTest::takesChaptersOfTheGuide() {
    const HelpTopic* keys = help_.topic("guide:Keys");
    QVERIFY(keys != nullptr);
    QVERIFY(keys->markdown.find("F1") != std::string::npos);
    // A chapter ends where the next begins, and the name of the whole is none.
    QVERIFY(keys->markdown.find("journal") == std::string::npos);
    QVERIFY(help_.topic("guide:Guide") == nullptr);
    for (const HelpTopic& topic : help_.topics()) {
        QVERIFY2(topic.markdown.find("![") == std::string::npos, topic.id.c_str());
    }
    std::set<std::string> ids;
    for (const HelpTopic& topic : help_.topics()) {
        QVERIFY2(ids.insert(topic.id).second, topic.id.c_str());
        QVERIFY2(!topic.title.empty() && !topic.chapter.empty(), topic.id.c_str());
    }
}

void HelpTest::saysWhenDataAreDoubted() {
    for (const Check& check : allChecks()) {
        const HelpTopic* topic = help_.topic(std::string("check:") + check.id);
        // Those of series that trend have formulas instead.
        const bool told = topic->markdown.find("**Told when:**") != std::string::npos;
        QVERIFY2(told == check.isOfData(), check.id);
    }
    const HelpTopic* far = help_.topic("check:far-values");
    QVERIFY(far->markdown.find("- *slipped digit*: a value off by 10") != std::string::npos);
    QVERIFY(far->markdown.find("fractional") == std::string::npos);
    const HelpTopic* odd = help_.topic("data:What looks odd");
    QVERIFY(odd != nullptr && odd->chapter == "Data");
    QVERIFY(odd->markdown.find("`copied-column`") != std::string::npos);
    QVERIFY(help_.topic("data:How often it is right") != nullptr);
}

void HelpTest::takesFormulasByTheirNames() {
    const HelpTopic* rank = help_.topic("formula:Rank");
    QVERIFY(rank != nullptr);
    QVERIFY(rank->markdown.find("left out, by name") != std::string::npos);
    QVERIFY(rank->markdown.find("**Errors") == std::string::npos);
}

void HelpTest::findsByWordsInAnyCase() {
    const auto found = help_.matching("WHITE");
    QVERIFY(!found.empty());
    QCOMPARE(found.front()->id, std::string("check:white"));
    QVERIFY(found.size() > 1);  // It stands in the words of others, too.
    for (const HelpTopic* topic : help_.matching("echo residuals")) {
        QVERIFY((topic->title + topic->markdown).find("cho") != std::string::npos);
    }
    QVERIFY(help_.matching("").empty());
    QVERIFY(help_.matching("   ").empty());
    QVERIFY(help_.matching("qwertzuiop").empty());
}

void HelpTest::standsWithoutTexts() {
    const Help bare({"", "", "", ""});
    const HelpTopic* reset = bare.topic("check:reset");
    QVERIFY(reset != nullptr);
    QVERIFY(reset->markdown.find("Ramsey 1969") != std::string::npos);
    QVERIFY(reset->markdown.find("How it reads") == std::string::npos);
    const Help broken({"## Only\n", "**No end\n| `reset` |\n", "### no id\n- x\n", "| `x` |\n"});
    QVERIFY(broken.topic("guide:Only") == nullptr);
    QVERIFY(broken.topic("check:reset")->markdown.find("Statistic") == std::string::npos);
}

QTEST_GUILESS_MAIN(HelpTest)
#include "help_test.moc"
