#pragma once

#include "core/study/sources.h"
#include "tests/core/fixtures.h"
#include "tests/core/test_server.h"

#include <QDate>
#include <QSet>
#include <QTest>

#include <memory>
#include <optional>
#include <vector>

namespace rapporto::tests {

using test::near;
using test::told;

/// Cells of a survey of growers with all that a question can trip over: missing cells, codes for no
/// answer, texts with quotes, groups of one row, a far mean. Nothing: missing.
inline std::vector<std::vector<std::optional<QString>>> surveyRows(int rows) {
    std::uint64_t state = 20261201;
    const auto uniform = [&] {
        state = state * 6364136223846793005U + 1442695040888963407U;
        return static_cast<double>(state >> 11U) / 9007199254740992.0;
    };
    const auto normal = [&] {
        double sum = 0.0;
        for (int i = 0; i < 12; ++i) {
            sum += uniform();
        }
        return sum - 6.0;
    };
    const auto number = [](double x) { return QString::number(x, 'g', 17); };
    const QStringList zones = {"Ridge", "River flat", "O'Hara's \\ hollow", "Lower"};
    const QStringList soils = {"sand", "loam", "clay"};
    std::vector<std::vector<std::optional<QString>>> out;
    for (int i = 1; i <= rows; ++i) {
        const int zone = static_cast<int>(uniform() * 4.0);
        const int village = zone * 6 + static_cast<int>(uniform() * 6.0);
        const double distance = 2.0 + 8.0 * uniform();
        const double hidden = normal();
        const int member = 0.8 * hidden - 0.2 * distance + 1.0 + normal() > 0.0 ? 1 : 0;
        const double hives = std::abs(4.0 + 2.0 * normal());
        const int age = 20 + static_cast<int>(uniform() * 50.0);
        const bool wet = uniform() < 0.4;
        const double income =
            std::exp(8.0 + 0.2 * member + 0.05 * hives + 0.01 * zone + 0.2 * hidden +
                     (wet ? 0.1 : 0.0) + 0.3 * (0.5 + 0.1 * hives) * normal());
        const auto cell = [&](double x) {
            return uniform() < 0.04 ? std::nullopt : std::optional(number(x));
        };
        std::vector<std::optional<QString>> row;
        row.emplace_back(QString::number(i));
        row.push_back(uniform() < 0.03 ? std::nullopt : std::optional(zones[zone]));
        row.emplace_back(QString::number(i == 7 ? 99 : village));
        row.push_back(cell(hives));
        row.emplace_back(QString::number(uniform() < 0.05 ? -9 : age));
        row.emplace_back(wet ? "true" : "false");
        row.emplace_back(QDate(2024, 1, 1).addDays(i % 200).toString(Qt::ISODate));
        row.emplace_back(QString::number(member));
        row.emplace_back(number(0.2 + 3.0 * uniform()));
        row.emplace_back(QString::number(1 + static_cast<int>(uniform() * 3.0)));
        row.push_back(cell(distance));
        row.emplace_back(QString::number(0.3 + uniform(), 'f', 3));
        row.emplace_back(soils[static_cast<int>(uniform() * 3.0)]);
        row.push_back(cell(income));
        row.emplace_back(number(1e7 + 3.0 * normal()));
        row.emplace_back(number(0.5 * member + normal() + 0.3 * hidden));
        out.push_back(std::move(row));
    }
    return out;
}

/// The same for a server.
inline QString surveySql(int rows) {
    QString sql =
        "create type soil as enum ('sand', 'loam', 'clay');\n"
        "create table growers (id integer primary key, zone text, village integer, hives float8, "
        "age integer, irrigated boolean, seen date, member integer, weight float8, copies integer, "
        "distance float8, price numeric, soil soil, income float8, far float8, trained float8);\n"
        "comment on column growers.income is 'Income of the year';\n"
        "insert into growers values\n";
    const QSet<std::size_t> quoted = {1, 6, 12};
    QString between = "(";
    for (const auto& row : surveyRows(rows)) {
        for (std::size_t c = 0; c < row.size(); ++c) {
            QString cell = row[c].value_or("null");
            if (row[c] && quoted.contains(c)) {
                cell = "'" + cell.replace("'", "''") + "'";
            }
            sql += between + cell;
            between = ", ";
        }
        between = "),\n(";
    }
    return sql + ");\n";
}

/// The same as a file.
inline QString surveyCsv(int rows) {
    QString out =
        "id,zone,village,hives,age,irrigated,seen,member,weight,copies,distance,price,soil,income,"
        "far,trained\n";
    for (const auto& row : surveyRows(rows)) {
        for (std::size_t c = 0; c < row.size(); ++c) {
            out += (c == 0 ? "" : ",") + row[c].value_or("");
        }
        out += "\n";
    }
    return out;
}

/// A study over the server's table.
inline nlohmann::json studyOf(const std::string& rows) {
    return nlohmann::json{
        {"format", "rapporto-study"},
        {"version", 1},
        {"source",
         {{"kind", "table"},
          {"reader", {{"type", "postgresql"}, {"service", "warehouse"}, {"table", "growers"}}},
          {"rows", rows}}},
        {"variables",
         {{{"name", "age"}, {"measure", "quantity"}, {"missing", {-9}}},
          {{"name", "village"}, {"measure", "groups"}},
          {{"name", "member"}, {"measure", "yes-no"}},
          {{"name", "copies"}, {"measure", "count"}},
          {{"name", "zone"}, {"measure", "groups"}, {"base", "River flat"}}}},
        {"derived",
         {{{"name", "ln_income"}, {"expression", "ln(income)"}},
          {{"name", "old"}, {"expression", "age >= 45"}},
          {{"name", "band"},
           {"expression",
            "case when age < 35 then 'young' when age < 55 then 'middle' else 'late' "
            "end"}}}},
        {"sample", {{"where", "distance > 2.5 or distance is null"}}}};
}

struct Read {
    Study study;
    Sources sources;
    Frame frame;
};

inline Result<Read> opened(nlohmann::json json) {
    auto study = readStudyText(json.dump());
    if (!study) {
        return tl::make_unexpected(study.error());
    }
    auto sources = readSources(*study, "/tmp", false, Job());
    if (!sources) {
        return tl::make_unexpected(sources.error());
    }
    Frame frame = makeFrame(*study, *sources);
    return Read{*std::move(study), *std::move(sources), std::move(frame)};
}

inline Result<Read> openedWith(const std::string& rows,
                               const std::vector<nlohmann::json>& questions) {
    auto json = studyOf(rows);
    json["questions"] = questions;
    return opened(json);
}

/// One number of both ways.
inline void same(const std::string& what, double left, double fetched, double tolerance = 1e-9) {
    if (left == fetched || (std::isnan(left) && std::isnan(fetched)) ||
        std::abs(left - fetched) < 1e-13) {
        return;
    }
    QVERIFY2(near(left, fetched, tolerance), told(what, left, fetched));
}

inline void same(const std::string& what, const std::optional<double>& left,
                 const std::optional<double>& fetched, double tolerance = 1e-9) {
    QVERIFY2(left.has_value() == fetched.has_value(), what.c_str());
    if (left) {
        same(what, *left, *fetched, tolerance);
    }
}

/// Three servers that each keep a part of `growers`, and the table growers_spread of the first that
/// stands for all parts. None where one of them cannot be started.
inline std::vector<std::unique_ptr<TestServer>> growersSpread(const TestServer& server) {
    const QString columns =
        "id integer not null, zone text, village integer, hives float8, age integer, "
        "irrigated boolean, seen date, member integer, weight float8, copies integer, "
        "distance float8, price numeric, income float8, far float8, trained float8";
    const QString names =
        "id, zone, village, hives, age, irrigated, seen, member, weight, copies, "
        "distance, price, income, far, trained";
    std::vector<std::unique_ptr<TestServer>> far;
    QString sql =
        "create extension postgres_fdw;\n"
        "create table growers_spread (" +
        columns + ") partition by hash (id);\n";
    for (int i = 0; i < 3; ++i) {
        far.push_back(std::make_unique<TestServer>(false));
        if (!far.back()->why().isEmpty() ||
            !far.back()->sql("create table part (" + columns + ");")) {
            return {};
        }
        sql += QString(
                   "create server far%1 foreign data wrapper postgres_fdw options (host '%2', "
                   "dbname 'postgres', use_remote_estimate 'false');\n"
                   "create user mapping for demo server far%1 options (user 'demo');\n"
                   "create foreign table growers_part%1 partition of growers_spread for values "
                   "with (modulus 3, remainder %1) server far%1 options (table_name 'part');\n")
                   .arg(i)
                   .arg(far.back()->socket());
    }
    sql += "insert into growers_spread select " + names + " from growers;\n";
    if (!server.sql(sql)) {
        return {};
    }
    return far;
}

}  // namespace rapporto::tests
