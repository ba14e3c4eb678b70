// Tables of the demo's scenario with nothing odd in them, and slips to plant into them.
#pragma once

#include "core/data/frame.h"
#include "core/describe/odd/oddity.h"

#include <cmath>
#include <functional>
#include <random>
#include <string>
#include <vector>

namespace rapporto::test {

/// A table under construction, with its own random numbers: the same for the same seed.
class TableMaker {
  public:
    TableMaker(std::size_t rows, unsigned seed) : rows_(rows), random_(seed) {}

    std::size_t rows() const { return rows_; }

    double uniform() { return std::generate_canonical<double, 53>(random_); }

    double normal() {
        const double r = std::sqrt(-2.0 * std::log(1.0 - uniform()));
        return r * std::cos(6.283185307179586 * uniform());
    }

    int poisson(double mean) {
        double product = uniform();
        int count = 0;
        for (; product > std::exp(-mean); product *= uniform()) {
            ++count;
        }
        return count;
    }

    std::vector<double> numbers(const std::function<double(std::size_t)>& cell) {
        std::vector<double> out;
        for (std::size_t i = 0; i < rows_; ++i) {
            out.push_back(cell(i));
        }
        return out;
    }

    void put(const std::string& name, Measure measure, std::vector<double> cells) {
        table_.columns.push_back(Column::ofNumbers(name, std::move(cells)));
        describe(name, measure);
    }

    void put(const std::string& name, Measure measure, const std::vector<std::string>& cells) {
        std::vector<std::string> texts;
        std::vector<std::int32_t> codes;
        for (const std::string& cell : cells) {
            const auto at = std::find(texts.begin(), texts.end(), cell);
            codes.push_back(static_cast<std::int32_t>(at - texts.begin()));
            if (at == texts.end()) {
                texts.push_back(cell);
            }
        }
        table_.columns.push_back(Column::ofTexts(name, std::move(codes), std::move(texts)));
        describe(name, measure);
    }

    /// One of the names, the first ones more often.
    std::vector<std::string> groups(const std::vector<std::string>& names, double falling = 0.8) {
        std::vector<std::string> out;
        for (std::size_t i = 0; i < rows_; ++i) {
            std::size_t k = 0;
            while (k + 1 < names.size() && uniform() > 1.0 - falling) {
                ++k;
            }
            out.push_back(names[k]);
        }
        return out;
    }

    Table table() const { return table_; }

    Layout layout;

  private:
    void describe(const std::string& name, Measure measure) {
        Variable variable;
        variable.name = name;
        variable.measure = measure;
        table_.variables.push_back(variable);
    }

    std::size_t rows_;
    std::mt19937_64 random_;
    Table table_;
};

inline std::vector<std::string> villages() {
    return {"Tolzo", "Salzo",  "Marvik",  "Ostrel",  "Pinava", "Corbena", "Lugara",
            "Venta", "Brusca", "Altmere", "Nordale", "Ferrin", "Ghisola", "Quarna"};
}

/// A survey of growers: skewed amounts, counts, scales, a yes–no, groups, names, a date.
inline TableMaker survey(std::size_t rows, unsigned seed) {
    TableMaker m(rows, seed);
    const auto area = m.numbers([&](std::size_t) {
        return std::max(0.1, std::round(10.0 * std::exp(0.9 + 0.8 * m.normal())) / 10.0);
    });
    std::vector<std::string> names;
    const auto places = villages();
    for (std::size_t i = 0; i < rows; ++i) {
        names.push_back(places[i % places.size()] + " " + std::to_string(i / places.size() + 1));
    }
    m.put("grower", Measure::Text, names);
    m.put("zone", Measure::Groups,
          m.groups({"Ridge", "Upper terrace", "Lower terrace", "Valley floor"}, 0.6));
    m.put("village", Measure::Groups, m.groups(places, 0.9));
    m.put("age", Measure::Quantity, m.numbers([&](std::size_t) {
        return std::round(std::min(88.0, std::max(18.0, 48.0 + 13.0 * m.normal())));
    }));
    m.put("orchard_ha", Measure::Quantity, area);
    m.put("revenue", Measure::Quantity, m.numbers([&](std::size_t i) {
        return std::round(std::exp(6.5 + 0.9 * std::log(area[i]) + 0.5 * m.normal()));
    }));
    m.put("hired_days", Measure::Count, m.numbers([&](std::size_t) {
        return static_cast<double>(m.uniform() < 0.4 ? 0 : m.poisson(6.0));
    }));
    m.put("visits", Measure::Count,
          m.numbers([&](std::size_t) { return static_cast<double>(m.poisson(1.3)); }));
    m.put("member", Measure::YesNo,
          m.numbers([&](std::size_t) { return m.uniform() < 0.4 ? 1.0 : 0.0; }));
    m.put("rating", Measure::OrderedGroups, m.numbers([&](std::size_t) {
        return std::min(5.0, std::max(1.0, std::round(3.0 + 1.2 * m.normal())));
    }));
    m.put("profit", Measure::Quantity,
          m.numbers([&](std::size_t) { return std::round(400.0 + 900.0 * m.normal()); }));
    m.put("share_sold", Measure::Quantity,
          m.numbers([&](std::size_t) { return std::round(1000.0 * m.uniform()) / 1000.0; }));
    m.put("asked_on", Measure::Date,
          m.numbers([&](std::size_t) { return 19700.0 + std::floor(90.0 * m.uniform()); }));
    return m;
}

/// Answers alone: few values a column, so that people answer alike by chance.
inline TableMaker answers(std::size_t rows, unsigned seed) {
    TableMaker m(rows, seed);
    m.put("zone", Measure::Groups, m.groups({"Ridge", "Terrace", "Valley"}, 0.5));
    m.put("irrigated", Measure::YesNo,
          m.numbers([&](std::size_t) { return m.uniform() < 0.3 ? 1.0 : 0.0; }));
    for (const char* name : {"outlook_1", "outlook_2", "outlook_3"}) {
        m.put(name, Measure::OrderedGroups, m.numbers([&](std::size_t) {
            return std::min(7.0, std::max(1.0, std::round(4.0 + 1.5 * m.normal())));
        }));
    }
    m.put("hives", Measure::Count,
          m.numbers([&](std::size_t) { return static_cast<double>(m.poisson(2.5)); }));
    return m;
}

/// Growers over years, each with a level of their own.
inline TableMaker panel(std::size_t units, unsigned seed) {
    constexpr std::size_t kYears = 8;
    TableMaker m(units * kYears, seed);
    std::vector<std::string> grower;
    std::vector<std::string> zone;
    std::vector<double> level;
    const std::vector<std::string> zones = {"Ridge", "Terrace", "Valley"};
    for (std::size_t u = 0; u < units; ++u) {
        const double own = 0.7 * m.normal();
        const std::string& place = zones[static_cast<std::size_t>(3.0 * m.uniform())];
        for (std::size_t t = 0; t < kYears; ++t) {
            grower.push_back("G" + std::to_string(101 + u));
            zone.push_back(place);
            level.push_back(own);
        }
    }
    m.put("grower", Measure::Groups, grower);
    m.put("year", Measure::Quantity,
          m.numbers([&](std::size_t i) { return 2015.0 + static_cast<double>(i % kYears); }));
    m.put("zone", Measure::Groups, zone);
    m.put("yield_kg", Measure::Quantity, m.numbers([&](std::size_t i) {
        return std::round(9000.0 * std::exp(level[i] + 0.25 * m.normal()));
    }));
    m.put("price", Measure::Quantity, m.numbers([&](std::size_t) {
        return std::round(1000.0 * std::exp(-0.7 + 0.15 * m.normal())) / 1000.0;
    }));
    m.put("rain_mm", Measure::Quantity,
          m.numbers([&](std::size_t) { return std::round(680.0 + 90.0 * m.normal()); }));
    m.put("hail_days", Measure::Count,
          m.numbers([&](std::size_t) { return static_cast<double>(m.poisson(1.1)); }));
    m.layout = {Layout::Kind::Panel, "grower", "year", ""};
    return m;
}

/// A month a row: trends, an index, a rate near one.
inline TableMaker series(std::size_t rows, unsigned seed) {
    TableMaker m(rows, seed);
    double price = 12.0;
    double stock = 30.0;
    m.put("month", Measure::Date,
          m.numbers([&](std::size_t i) { return 14245.0 + 30.4375 * static_cast<double>(i); }));
    m.put("juice_price", Measure::Quantity, m.numbers([&](std::size_t) {
        price *= std::exp(0.003 + 0.03 * m.normal());
        return std::round(100.0 * price) / 100.0;
    }));
    m.put("stock_kt", Measure::Quantity, m.numbers([&](std::size_t) {
        stock = std::max(4.0, 0.9 * stock + 3.0 + 2.0 * m.normal());
        return std::round(100.0 * stock) / 100.0;
    }));
    m.put("export_rate", Measure::Quantity,
          m.numbers([&](std::size_t) { return 1.0 + 0.02 * m.normal(); }));
    m.put("change", Measure::Quantity, m.numbers([&](std::size_t) {
        // Tails like those of prices: a t law with four degrees of freedom.
        double chi = 0.0;
        for (int k = 0; k < 4; ++k) {
            const double z = m.normal();
            chi += z * z;
        }
        return m.normal() / std::sqrt(chi / 4.0);
    }));
    m.layout = {Layout::Kind::Series, "", "month", ""};
    return m;
}

/// Amounts with long tails, rounded as people round them.
inline TableMaker amounts(std::size_t rows, unsigned seed) {
    TableMaker m(rows, seed);
    m.put("waiting_days", Measure::Quantity, m.numbers([&](std::size_t) {
        return std::round(-40.0 * std::log(1.0 - m.uniform()) * 10.0) / 10.0;
    }));
    m.put("holding", Measure::Quantity,
          m.numbers([&](std::size_t) { return std::round(std::exp(4.0 + 1.3 * m.normal())); }));
    m.put("income", Measure::Quantity, m.numbers([&](std::size_t) {
        return 50.0 * std::round(std::exp(7.6 + 0.45 * m.normal()) / 50.0);
    }));
    m.put("sprays", Measure::Count, m.numbers([&](std::size_t) {
        return static_cast<double>(m.poisson(std::exp(0.8 + 0.9 * m.normal())));
    }));
    m.put("slope_pct", Measure::Quantity, m.numbers([&](std::size_t) {
        return std::round(std::max(0.0, 12.0 + 9.0 * m.normal()));
    }));
    m.put("warmth", Measure::Quantity, m.numbers([&](std::size_t) {
        return std::round((2.0 + 6.0 * m.normal()) * 10.0) / 10.0;
    }));
    m.put("soil", Measure::Groups,
          m.groups({"sand", "loam", "clay", "sandy loam", "clay loam", "gravel"}, 0.7));
    return m;
}

/// Thirty tables without a slip, of five sorts and many sizes.
inline TableMaker cleanTable(unsigned k) {
    const std::size_t sizes[] = {40, 90, 200, 450, 1200, 3000};
    const std::size_t rows = sizes[k / 5 % 6];
    switch (k % 5) {
        case 0:
            return survey(rows, 1000 + k);
        case 1:
            return answers(rows, 2000 + k);
        case 2:
            return panel(rows / 8 + 12, 3000 + k);
        case 3:
            return series(std::min<std::size_t>(rows, 400), 4000 + k);
        default:
            return amounts(rows, 5000 + k);
    }
}

inline Frame frameOf(const TableMaker& m) { return Frame::make(m.table(), {}, {}, {}, m.layout); }

}  // namespace rapporto::test
