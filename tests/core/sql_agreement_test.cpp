// Where SQL defines what an expression means, a database is asked for the same: generated
// expressions over missing values, texts and numbers.
#include "core/data/frame.h"
#include "tests/core/fixtures.h"

#include <sqlite3.h>

#include <QTest>

using namespace rapporto;

namespace {

/// Small, repeatable choices.
class Chooser {
  public:
    explicit Chooser(std::uint64_t seed) : state_(seed) {}

    std::size_t below(std::size_t n) {
        state_ = state_ * 6364136223846793005U + 1442695040888963407U;
        return static_cast<std::size_t>(state_ >> 33U) % n;
    }

    std::string of(const std::vector<std::string>& list) { return list[below(list.size())]; }

  private:
    std::uint64_t state_;
};

/// The same expression in both spellings.
struct Pair {
    std::string ours;
    std::string sql;
};

Pair same(const std::string& text) { return {text, text}; }

/// `%1` and `%2` in the pattern stand for the parts.
Pair joined(const std::string& ours, const std::string& sql, const std::vector<Pair>& parts) {
    const auto fill = [&](const std::string& pattern, bool forSql) {
        std::string out;
        for (std::size_t i = 0; i < pattern.size(); ++i) {
            if (pattern[i] == '%') {
                const Pair& part = parts[static_cast<std::size_t>(pattern[++i] - '1')];
                out += forSql ? part.sql : part.ours;
            } else {
                out += pattern[i];
            }
        }
        return out;
    };
    return {fill(ours, false), fill(sql, true)};
}

Pair joined(const std::string& both, const std::vector<Pair>& parts) {
    return joined(both, both, parts);
}

class Generator {
  public:
    explicit Generator(std::uint64_t seed) : choose_(seed) {}

    Pair number(int depth) {
        if (depth == 0) {
            return choose_.below(4) == 0
                       ? same(choose_.of({"0.0", "1.0", "2.5", "7.0", "10.0", "0.25"}))
                       : same(choose_.of({"x", "y", "z"}));
        }
        const auto sub = [&] { return number(depth - 1); };
        switch (choose_.below(14)) {
            case 0:
            case 1:
                return joined("(%1 " + choose_.of({"+", "-", "*", "/"}) + " %2)", {sub(), sub()});
            case 2:
                return joined("(-%1)", {sub()});
            case 3:
                return joined(choose_.of({"abs", "floor", "ceiling", "round", "sign"}) + "(%1)",
                              {sub()});
            case 4:
                return joined(choose_.of({"ln", "sqrt", "log10"}) + "(%1)", {sub()});
            case 5:
                return joined("exp(sign(%1))", {sub()});
            case 6:
                return joined("power(abs(%1), 2.0)", {sub()});
            case 7:
                return joined("mod(%1, %2)", {sub(), sub()});
            case 8:
                return choose_.below(2) == 0
                           ? joined("least(%1, %2)", "min(%1, %2)", {sub(), sub()})
                           : joined("greatest(%1, %2)", "max(%1, %2)", {sub(), sub()});
            case 9:
                return joined("coalesce(%1, %2)", {sub(), sub()});
            case 10:
                return joined("nullif(%1, %2)", {sub(), sub()});
            case 11:
                return joined("case when %1 then %2 else %3 end", {truth(depth - 1), sub(), sub()});
            case 12:
                return joined("case when %1 then %2 when %3 then null end",
                              {truth(depth - 1), sub(), truth(depth - 1)});
            default:
                return joined(
                    choose_.of({"sum", "avg", "min", "max", "count"}) + "(%1) over (" +
                        choose_.of({"", "partition by s", "partition by s, t", "partition by z"}) +
                        ")",
                    {number(0)});
        }
    }

    Pair text() {
        return choose_.below(3) == 0 ? same(choose_.of({"'Ridge'", "'terrace'", "'it''s'", "'É'"}))
                                     : same(choose_.of({"s", "t"}));
    }

    Pair truth(int depth) {
        const auto sub = [&] { return number(std::max(depth - 1, 0)); };
        switch (choose_.below(depth > 0 ? 9 : 6)) {
            case 0:
                return joined("(%1 " + compare() + " %2)", {sub(), sub()});
            case 1:
                return joined("(%1 " + compare() + " %2)", {text(), text()});
            case 2:
                return joined("(%1 " + maybeNot() + "between %2 and %3)", {sub(), sub(), sub()});
            case 3:
                return joined(
                    "(%1 " + maybeNot() + "in (%2, %3" + choose_.of({"", ", null"}) + "))",
                    {sub(), sub(), sub()});
            case 4:
                return joined("(%1 is " + maybeNot() + "null)",
                              {choose_.below(2) == 0 ? text() : sub()});
            case 5:
                return joined("(%1 " + maybeNot() + "in ('Ridge', %2))",
                              {same(choose_.of({"s", "t"})), text()});
            case 6:
                return joined("(not %1)", {truth(depth - 1)});
            default:
                return joined("(%1 " + choose_.of({"and", "or"}) + " %2)",
                              {truth(depth - 1), truth(depth - 1)});
        }
    }

  private:
    std::string compare() { return choose_.of({"=", "<>", "<", "<=", ">", ">="}); }

    std::string maybeNot() { return choose_.of({"", "", "not "}); }

    Chooser choose_;
};

constexpr std::size_t kRows = 60;

/// Numbers with ties, zeros, negatives and holes; texts with holes.
struct Data {
    std::map<std::string, std::vector<double>> numbers;
    std::map<std::string, std::vector<std::int32_t>> codes;
    std::vector<std::string> texts = {"Ridge", "terrace", "it's", "É", ""};
};

Data makeData() {
    Data data;
    Chooser choose(11);
    for (const char* name : {"x", "y", "z"}) {
        for (std::size_t i = 0; i < kRows; ++i) {
            const double steps[] = {1.0, 0.5, 3.0};
            const double value = (static_cast<double>(choose.below(9)) - 3.0) *
                                 steps[static_cast<std::size_t>(name[0] - 'x')];
            data.numbers[name].push_back(choose.below(6) == 0 ? std::nan("") : value);
        }
    }
    for (const char* name : {"s", "t"}) {
        for (std::size_t i = 0; i < kRows; ++i) {
            data.codes[name].push_back(static_cast<std::int32_t>(choose.below(6)) - 1);
        }
    }
    for (auto& [name, codes] : data.codes) {
        for (auto& code : codes) {
            code = std::min(code, 3);
        }
    }
    data.texts.pop_back();
    return data;
}

class Database {
  public:
    explicit Database(const Data& data) {
        sqlite3_open(":memory:", &db_);
        run("create table rows (id integer, x real, y real, z real, s text, t text)");
        for (std::size_t i = 0; i < kRows; ++i) {
            std::string sql = "insert into rows values (" + std::to_string(i);
            for (const char* name : {"x", "y", "z"}) {
                const double v = data.numbers.at(name)[i];
                sql += std::isnan(v) ? ", null" : ", " + std::to_string(v);
            }
            for (const char* name : {"s", "t"}) {
                const std::int32_t code = data.codes.at(name)[i];
                std::string text;
                for (const char c : code < 0 ? "" : data.texts[static_cast<std::size_t>(code)]) {
                    text += c == '\'' ? "''" : std::string(1, c);
                }
                sql += code < 0 ? ", null" : ", '" + text + "'";
            }
            run(sql + ")");
        }
    }

    ~Database() { sqlite3_close(db_); }

    Database(const Database&) = delete;
    Database& operator=(const Database&) = delete;

    void run(const std::string& sql) {
        if (sqlite3_exec(db_, sql.c_str(), nullptr, nullptr, nullptr) != SQLITE_OK) {
            qFatal("%s: %s", sql.c_str(), sqlite3_errmsg(db_));
        }
    }

    /// The expression in every row, by id; NaN where null.
    std::vector<double> values(const std::string& expression) {
        const std::string sql = "select " + expression + " from rows order by id";
        sqlite3_stmt* statement = nullptr;
        if (sqlite3_prepare_v2(db_, sql.c_str(), -1, &statement, nullptr) != SQLITE_OK) {
            qFatal("%s: %s", sql.c_str(), sqlite3_errmsg(db_));
        }
        std::vector<double> out;
        while (sqlite3_step(statement) == SQLITE_ROW) {
            out.push_back(sqlite3_column_type(statement, 0) == SQLITE_NULL
                              ? std::nan("")
                              : sqlite3_column_double(statement, 0));
        }
        sqlite3_finalize(statement);
        return out;
    }

  private:
    sqlite3* db_ = nullptr;
};

}  // namespace

class SqlAgreementTest : public QObject {
    Q_OBJECT

  private slots:

    void agrees() {
        const Data data = makeData();
        Database database(data);
        Table table = test::tableOf({{"x", data.numbers.at("x")},
                                     {"y", data.numbers.at("y")},
                                     {"z", data.numbers.at("z")}});
        for (const char* name : {"s", "t"}) {
            table.columns.push_back(Column::ofTexts(name, data.codes.at(name), data.texts));
            Variable variable;
            variable.name = name;
            variable.measure = Measure::Groups;
            table.variables.push_back(variable);
        }
        const Frame frame = test::frameOf(table);
        std::size_t compared = 0;
        std::size_t present = 0;
        for (std::uint64_t seed = 1; seed <= 900; ++seed) {
            Generator generator(seed);
            const Pair pair = seed % 2 == 0 ? generator.number(3) : generator.truth(3);
            const auto value = frame.evaluateText(pair.ours);
            QVERIFY2(value.has_value(),
                     (pair.ours + ": " + (value ? "" : value.error().text())).c_str());
            const std::vector<double> expected = database.values(pair.sql);
            QCOMPARE(expected.size(), kRows);
            ++compared;
            for (std::size_t i = 0; i < kRows; ++i) {
                const double x = value->column.numbers()[i];
                const double y = expected[i];
                // Overflow has no value here, and is infinite there.
                const bool fits = std::isnan(x) ? std::isnan(y) || std::isinf(y)
                                                : std::abs(x - y) <= 1e-12 * (1.0 + std::abs(y));
                present += std::isnan(x) ? 0 : 1;
                QVERIFY2(fits, qPrintable(QString("%1 in row %2: %3, not %4")
                                              .arg(QString::fromStdString(pair.ours))
                                              .arg(i + 1)
                                              .arg(x)
                                              .arg(y)));
            }
        }
        QCOMPARE(compared, std::size_t{900});
        QVERIFY(present > compared * kRows / 3);  // Not nulls against nulls.
    }
};

QTEST_APPLESS_MAIN(SqlAgreementTest)
#include "sql_agreement_test.moc"
