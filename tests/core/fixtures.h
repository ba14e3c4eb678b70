#pragma once

#include "core/study/answer.h"

#include <nlohmann/json.hpp>

#include <QByteArray>
#include <QString>

#include <algorithm>
#include <cmath>
#include <fstream>
#include <string>
#include <vector>

namespace rapporto::test {

/// |x − reference| ≤ tolerance · |reference|; against zero, absolute.
inline bool near(double x, double reference, double tolerance) {
    return std::abs(x - reference) <= tolerance * (reference == 0.0 ? 1.0 : std::abs(reference));
}

nlohmann::json readJson(const std::string& path);

/// A number that the reference file keeps as text with all its digits.
double number(const nlohmann::json& json);

/// A table of number columns.
Table tableOf(const std::vector<std::pair<std::string, std::vector<double>>>& columns);

/// A table of the columns of a reference file; null is missing.
Table tableFrom(const nlohmann::json& data);

/// What AGREE says when two numbers do not agree.
QByteArray told(const std::string& what, double found, double expected);

/// Two numbers, by name, in a test function: relative to the larger of `least` and what is
/// expected.
#define AGREE_FROM(least, what, found, expected, tolerance)                              \
    do {                                                                                 \
        const double f_ = (found);                                                       \
        const double e_ = (expected);                                                    \
        QVERIFY2(std::abs(f_ - e_) <= (tolerance)*std::max<double>(least, std::abs(e_)), \
                 ::rapporto::test::told(what, f_, e_).constData());                      \
    } while (false)

#define AGREE(what, found, expected, tolerance) AGREE_FROM(1e-3, what, found, expected, tolerance)

/// The first coefficient of that name, of any equation; null without one.
const Coefficient* coefficient(const Answer& a, const std::string& term);

const CheckResult& check(const Answer& a, const std::string& id);

/// A number of a check by its name; NaN without one.
double detail(const CheckResult& c, const std::string& name);

/// How many checks there are of a question with one equation.
std::size_t checksOfOneEquation();

inline Frame frameOf(const Table& table) { return Frame::make(table, {}, {}, {}, {}); }

Question explain(const std::string& outcome, const std::vector<std::string>& terms);

Answer answer(const Table& table, const Question& question, const Layout& layout = {},
              const std::vector<VariableEntry>& entries = {});

/// The reference data of tests/reference/make_reference.py.
Table referenceTable(const nlohmann::json& reference);

std::vector<VariableEntry> referenceEntries();

}  // namespace rapporto::test
