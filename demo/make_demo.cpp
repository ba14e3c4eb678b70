// Makes the demo data of the invented valley of Calvessa: deterministic, from the truth in
// truth.json, which this file writes out in code. Usage: make-demo DIRECTORY [ROWS-OF-growers_big]
#include <fmt/format.h>

#include <algorithm>
#include <array>
#include <cmath>
#include <cstdint>
#include <fstream>
#include <iostream>
#include <numbers>
#include <string>
#include <vector>

namespace {

/// SplitMix64 (Steele, Lea & Flood 2014): the same numbers on every machine.
class Random {
  public:
    explicit Random(std::uint64_t seed) : state_(seed) {}

    double uniform() {
        state_ += 0x9E3779B97F4A7C15ULL;
        std::uint64_t z = state_;
        z = (z ^ (z >> 30U)) * 0xBF58476D1CE4E5B9ULL;
        z = (z ^ (z >> 27U)) * 0x94D049BB133111EBULL;
        return (static_cast<double>((z ^ (z >> 31U)) >> 11U) + 0.5) / 9007199254740992.0;
    }

    double normal() {
        const double u = uniform();
        return std::sqrt(-2.0 * std::log(u)) * std::cos(2.0 * std::numbers::pi * uniform());
    }

    int poisson(double mean) {
        int k = 0;
        for (double left = std::exp(-mean), p = uniform(); p > left && k < 200; ++k) {
            p *= uniform();
        }
        return k;
    }

    /// Gamma with the given shape and mean 1, shape at least .3 (Marsaglia & Tsang 2000).
    double gamma(double shape) {
        if (shape < 1.0) {
            const double boosted = gammaRaw(shape + 1.0);
            return boosted * std::pow(uniform(), 1.0 / shape) / shape;
        }
        return gammaRaw(shape) / shape;
    }

  private:
    double gammaRaw(double shape) {
        const double d = shape - 1.0 / 3.0;
        const double c = 1.0 / std::sqrt(9.0 * d);
        while (true) {
            const double x = normal();
            const double v = std::pow(1.0 + c * x, 3);
            if (v > 0.0 && std::log(uniform()) < 0.5 * x * x + d - d * v + d * std::log(v)) {
                return d * v;
            }
        }
    }

    std::uint64_t state_;
};

struct Village {
    std::string name;
    int zone;
    double effect;
    double road;
    double office;
};

const std::array<const char*, 4> kZones = {"Ridge", "River flat", "Upper terrace", "Lower terrace"};
const std::array<double, 4> kZoneEffects = {-0.19, 0.0, -0.05, 0.04};
const std::array<const char*, 4> kSoils = {"loam", "clay", "sand", "gravel"};

std::vector<Village> villages(Random& random) {
    static const std::array<const char*, 12> kFirst = {"Tol", "An",  "Mer", "Lu",  "Vis", "Cor",
                                                       "Bre", "Sal", "Or",  "Pel", "Ga",  "Fio"};
    static const std::array<const char*, 4> kLast = {"ve", "zo", "ra", "sa"};
    std::vector<Village> list;
    for (int v = 0; v < 48; ++v) {
        const int zone = v % 4;
        const double road = 1.0 + 11.0 * random.uniform() + (zone == 0 ? 3.0 : 0.0);
        list.push_back({std::string(kFirst[static_cast<std::size_t>(v % 12)]) +
                            kLast[static_cast<std::size_t>(v / 12)],
                        zone, 0.16 * random.normal(), road, 0.6 * road + 6.0 * random.uniform()});
    }
    return list;
}

double clampRound(double x, double low, double high, double step) {
    return std::clamp(std::round(x / step) * step, low, high);
}

std::string cell(double x, int decimals) { return fmt::format("{:.{}f}", x, decimals); }

/// Writes `rows` growers; the first 1,180 of any length are the same people.
void writeGrowers(const std::string& path, int rows) {
    Random random(20240501);
    Random visiting(20240505);
    const auto places = villages(random);
    std::vector<double> shares;
    for (std::size_t v = 0; v < places.size(); ++v) {
        shares.push_back(0.4 + 1.6 * random.uniform());
    }
    std::ofstream out(path, std::ios::binary);
    out << "grower,zone,village,weight,age,schooling_years,orchard_ha,trees,hives,irrigated,slope_"
           "pct,frost_nights,"
           "scab_outbreaks,advisor_visits,training_days,pruning_score,soil,market_km,road_km,"
           "office_km,member,hired_days,"
           "yield_kg_ha,price_fl,revenue_fl,household_income,outlook_1,outlook_2,outlook_3,outlook_"
           "4,storage_rating,"
           "neighbour_ties,surveyed_on\n";
    double total = 0.0;
    for (const double s : shares) {
        total += s;
    }
    std::vector<int> numbers(places.size(), 0);
    for (int i = 0; i < rows; ++i) {
        double pick = random.uniform() * total;
        std::size_t v = 0;
        while (v + 1 < shares.size() && pick > shares[v]) {
            pick -= shares[v++];
        }
        const Village& place = places[v];
        const double age = clampRound(47.0 + 13.0 * random.normal(), 17.0, 88.0, 1.0);
        const double schooling =
            clampRound(9.0 - 0.05 * (age - 47.0) + 2.8 * random.normal(), 0.0, 18.0, 1.0);
        const double orchard =
            std::max(0.2, clampRound(std::exp(0.75 + 0.65 * random.normal()), 0.2, 40.0, 0.1));
        const double slope = clampRound((place.zone == 0   ? 18.0
                                         : place.zone == 1 ? 3.0
                                                           : 10.0) +
                                            4.0 * random.normal(),
                                        0.0, 45.0, 0.5);
        const double hives = clampRound(std::exp(1.45 + 0.62 * random.normal()), 0.0, 24.0, 0.5);
        const double hope = random.normal();
        const double road =
            std::max(0.3, clampRound(place.road + 1.2 * random.normal(), 0.3, 30.0, 0.1));
        const double office =
            std::max(0.3, clampRound(place.office + 1.5 * random.normal(), 0.3, 30.0, 0.1));
        const double market =
            std::max(0.5, clampRound(6.0 + 4.0 * random.normal(), 0.5, 30.0, 0.1));
        const double lean =
            0.9 - 0.16 * road - 0.10 * office - 0.02 * market + 0.03 * schooling + 0.8 * hope + 1.2;
        const int member = random.uniform() < 1.0 / (1.0 + std::exp(-lean)) ? 1 : 0;
        const int irrigated =
            random.uniform() <
                    1.0 / (1.0 + std::exp(-(0.3 - 0.06 * slope + (place.zone == 1 ? 0.8 : 0.0))))
                ? 1
                : 0;
        const int frost = random.poisson(place.zone == 0 ? 9.0 : place.zone == 1 ? 6.5 : 4.5);
        const int scab =
            random.uniform() < 0.3
                ? 0
                : random.poisson(0.9 * std::exp(0.07 * (frost - 5)) * random.gamma(1.0 / 1.4));
        // The draw of former years, so that all others stay; visits spread more than it.
        static_cast<void>(random.poisson(0.8 + 1.4 * member));
        const int visits = visiting.poisson((0.8 + 1.4 * member) * visiting.gamma(1.0 / 0.6));
        const double training = clampRound(
            -1.0 + 1.5 * member + 0.15 * schooling + 1.6 * random.normal(), 0.0, 14.0, 0.5);
        const int ties = random.poisson(2.5 + 0.5 * member);
        const double pruning =
            clampRound(3.4 + 0.55 * training + 0.22 * ties + 1.4 * random.normal(), 0.0, 10.0, 0.1);
        const double spread = 0.42 * std::exp(0.35 * std::log(orchard / 2.1));
        const double lnRevenue =
            6.15 + 0.12 * member + 0.16 * hope + 0.085 * hives - 0.0032 * hives * hives +
            0.16 * irrigated + 0.012 * irrigated * hives + 0.78 * std::log(orchard) +
            0.018 * schooling - 0.008 * slope + kZoneEffects[static_cast<std::size_t>(place.zone)] +
            place.effect + spread * random.normal();
        double revenue = std::round(std::exp(lnRevenue) / 5.0) * 5.0;
        const double price =
            clampRound(0.42 + 0.05 * random.normal() + 0.03 * member, 0.2, 0.8, 0.01);
        const double yield = std::round(revenue / price / orchard * (1.0 + 0.1 * random.normal()));
        const double income =
            std::round((revenue * 0.62 + 90.0 * pruning + std::exp(6.4 + 0.7 * random.normal())) /
                       10.0) *
            10.0;  // Well-pruned growers are asked to prune for others.
        const int hired = random.poisson(3.0 + 4.0 * orchard);
        const double mood = 0.9 * random.normal() + 0.25 * member;
        std::array<int, 4> outlook{};
        for (std::size_t o = 0; o < outlook.size(); ++o) {
            const double sign = o == 2 ? -1.0 : 1.0;  // The third is worded in reverse.
            outlook[o] = static_cast<int>(
                clampRound(4.0 + sign * 1.1 * mood + 0.9 * random.normal(), 1.0, 7.0, 1.0));
        }
        const int storage =
            static_cast<int>(clampRound(3.0 + 0.6 * member + 1.1 * random.normal(), 1.0, 5.0, 1.0));
        const double weight =
            clampRound(1.0 / (0.55 + 0.9 * shares[v] / 2.0) * 24.0, 1.0, 99.0, 0.1);
        const std::size_t soil = static_cast<std::size_t>(random.uniform() * 4.0);
        const int day = 1 + static_cast<int>(random.uniform() * 28.0);
        const int month = 2 + static_cast<int>(random.uniform() * 4.0);
        const double blankRevenue = random.uniform();
        const double blankAge = random.uniform();
        const double blankHives = random.uniform();
        const double slip = random.uniform();
        if (i == 404) {
            revenue *= 100.0;  // Written in centimes.
        } else if (i == 77 || i == 871) {
            revenue *= 5.0;  // A packing shed’s sales counted too.
        } else if (slip < 0.001) {
            revenue = std::max(5.0, revenue / 100.0);
        }
        out << place.name << ' ' << ++numbers[v] << ','
            << kZones[static_cast<std::size_t>(place.zone)] << ',' << place.name << ','
            << cell(weight, 1) << ',' << (blankAge < 0.006 ? "" : cell(age, 0)) << ','
            << (random.uniform() < 0.008 ? "-9" : cell(schooling, 0)) << ',' << cell(orchard, 1)
            << ',' << cell(std::round(orchard * (380.0 + 60.0 * random.normal())), 0) << ','
            << (blankHives < 0.004 ? "" : cell(hives, 1)) << ',' << irrigated << ','
            << cell(slope, 1) << ',' << frost << ',' << scab << ',' << visits << ','
            << cell(training, 1) << ',' << cell(pruning, 1) << ',' << kSoils[soil] << ','
            << cell(market, 1) << ',' << cell(road, 1) << ',' << cell(office, 1) << ',' << member
            << ',' << hired << ',' << cell(yield, 0) << ',' << cell(price, 2) << ','
            << (blankRevenue < 0.026 ? "" : cell(revenue, 0)) << ','
            << (random.uniform() < 0.02 ? "-9" : cell(income, 0));
        for (const int o : outlook) {
            out << ',' << (random.uniform() < 0.012 ? -9 : o);
        }
        out << ',' << (random.uniform() < 0.015 ? std::string() : std::to_string(storage)) << ','
            << ties << ',' << fmt::format("2024-{:02}-{:02}", month, day) << '\n';
    }
    if (!out.flush()) {
        std::cerr << "make-demo: cannot write " << path << "\n";
        std::exit(1);
    }
}

/// The table's descriptor as a tabular data package (an open standard): types, labels, missing
/// codes.
void writePackage(const std::string& path) {
    struct Field {
        const char* name;
        const char* type;
        const char* title;
    };

    static const std::vector<Field> kFields = {
        {"grower", "string", "Grower"},
        {"zone", "string", "Farming zone"},
        {"village", "string", "Village"},
        {"weight", "number", "Survey weight"},
        {"age", "integer", "Age, years"},
        {"schooling_years", "integer", "Years of schooling"},
        {"orchard_ha", "number", "Orchard, ha"},
        {"trees", "integer", "Apple trees"},
        {"hives", "number", "Hives per hectare"},
        {"irrigated", "integer", "Irrigated: 0 no, 1 yes"},
        {"slope_pct", "number", "Slope, %"},
        {"frost_nights", "integer", "Nights of frost"},
        {"scab_outbreaks", "integer", "Outbreaks of scab"},
        {"advisor_visits", "integer", "Visits by the advisor"},
        {"training_days", "number", "Days of pruning training"},
        {"pruning_score", "number", "Pruning score, 0 to 10"},
        {"soil", "string", "Soil"},
        {"market_km", "number", "Road to the market, km"},
        {"road_km", "number", "Road to the store, km"},
        {"office_km", "number", "Road to the office, km"},
        {"member", "integer", "Cooperative member: 0 no, 1 yes"},
        {"hired_days", "integer", "Hired labour, days"},
        {"yield_kg_ha", "number", "Yield, kg/ha"},
        {"price_fl", "number", "Price, florins a kg"},
        {"revenue_fl", "number", "Revenue from apples, florins"},
        {"household_income", "number", "Household income, florins"},
        {"outlook_1", "integer", "I expect better years, 1 to 7"},
        {"outlook_2", "integer", "I would plant again, 1 to 7"},
        {"outlook_3", "integer", "I think of giving up, 1 to 7 (worded in reverse)"},
        {"outlook_4", "integer", "My children will take over, 1 to 7"},
        {"storage_rating", "integer", "Rating of cold storage, 1 to 5"},
        {"neighbour_ties", "integer", "Neighbours asked for advice"},
        {"surveyed_on", "date", "Day of the interview"}};
    std::ofstream out(path, std::ios::binary);
    out << "{\n  \"profile\": \"tabular-data-package\",\n  \"name\": \"calvessa-growers\",\n"
           "  \"title\": \"Apple growers of the Calvessa valley (invented)\",\n  \"resources\": [\n"
           "    {\"name\": \"growers\", \"path\": \"growers.csv\", \"profile\": "
           "\"tabular-data-resource\",\n"
           "      \"schema\": {\n        \"missingValues\": [\"\", \"-9\"],\n        \"fields\": "
           "[\n";
    for (std::size_t f = 0; f < kFields.size(); ++f) {
        out << fmt::format(
            "          {{\"name\": \"{}\", \"type\": \"{}\", \"title\": \"{}\"}}{}\n",
            kFields[f].name, kFields[f].type, kFields[f].title, f + 1 < kFields.size() ? "," : "");
    }
    out << "        ]\n      }\n    }\n  ]\n}\n";
}

/// The summary of an “earlier report”: what a system of paths among standardised measures implies,
/// printed to three digits. The paths are in truth.json.
void writeSummary(const std::string& path) {
    constexpr std::size_t p = 5;
    const char* names[p] = {"training_hours", "neighbour_ties", "practice_uptake", "canopy_health",
                            "harvest_grade"};
    const double mean[p] = {14.2, 3.8, 5.1, 6.4, 71.5};
    const double sd[p] = {6.1, 1.9, 2.2, 1.7, 9.3};
    // Each later measure is led to from earlier ones; disturbances fill it up to one.
    double b[p][p] = {};
    b[2][0] = 0.45;
    b[2][1] = 0.30;
    b[3][2] = 0.50;
    b[4][2] = 0.10;
    b[4][3] = 0.55;
    double r[p][p] = {};
    for (std::size_t i = 0; i < p; ++i) {
        r[i][i] = 1.0;
        for (std::size_t j = 0; j < i; ++j) {
            double sum = i == 1 && j == 0 ? 0.2 : 0.0;
            for (std::size_t k = 0; k < i; ++k) {
                sum += b[i][k] * r[k][j];
            }
            r[i][j] = r[j][i] = sum;
        }
    }
    std::ofstream out(path, std::ios::binary);
    out << "statistic,variable";
    for (const char* name : names) {
        out << ',' << name;
    }
    out << "\nn,,412,412,412,412,412\nmean,";
    for (const double m : mean) {
        out << fmt::format(",{}", m);
    }
    out << "\nsd,";
    for (const double s : sd) {
        out << fmt::format(",{}", s);
    }
    out << '\n';
    for (std::size_t i = 0; i < p; ++i) {
        out << "correlation," << names[i];
        for (std::size_t j = 0; j < p; ++j) {
            out << (j <= i ? fmt::format(",{:.3f}", r[i][j]) : std::string(","));
        }
        out << '\n';
    }
}

/// Fruit set against hives: a line that bends twice, and one orchard that does not behave.
void writePollination(const std::string& path) {
    Random random(20240502);
    const std::array<const char*, 12> first = {"Sunken", "Upper", "Old",     "Mill",
                                               "Stony",  "Lark",  "Widow's", "Red",
                                               "Long",   "Heron", "Salt",    "Bell"};
    const std::array<const char*, 8> second = {"Gate", "Croft", "Terrace", "Hollow",
                                               "Bank", "Acre",  "Garth",   "Rise"};
    std::ofstream out(path, std::ios::binary);
    out << "orchard,hives,bloom_days,fruit_set_pct\n";
    for (std::size_t i = 0; i < 96; ++i) {
        const double hives = std::round(10.0 * 14.0 * std::pow(random.uniform(), 1.2)) / 10.0;
        const double bloom = 6.0 + random.poisson(5.0);
        double set = 9.0 + 2.6 * hives - 1.8 * std::max(hives - 4.0, 0.0) -
                     1.5 * std::max(hives - 9.5, 0.0) + 0.35 * (bloom - 11.0) +
                     0.9 * random.normal();
        if (i == 37) {
            set -= 11.0;  // A late frost on one slope.
        }
        out << fmt::format("{} {},{:.1f},{:.0f},{:.1f}\n", first[i % 12], second[i / 12], hives,
                           bloom, std::clamp(set, 0.0, 100.0));
    }
}

/// Fifteen years of the juice market by month: what trends, echoes and breaks once.
void writeMarket(const std::string& path) {
    Random random(20240503);
    std::ofstream out(path, std::ios::binary);
    out << "month,juice_price,freight,stock_kt,export_rate,energy\n";
    double freight = 4.2;
    double rate = 0.0;
    double energy = 4.0;
    double stock = 3.2;
    double shock = 0.0;
    for (int t = 0; t < 180; ++t) {
        freight += 0.003 + 0.03 * random.normal();
        rate = 0.97 * rate + 0.02 * random.normal();
        energy += 0.002 + 0.04 * random.normal();
        const double season = 0.12 * std::sin(2.0 * std::numbers::pi * (t + 2) / 12.0);
        stock = 0.9 * stock + 0.32 + season + 0.05 * random.normal();
        shock = 0.55 * shock + 0.035 * random.normal();
        // From September 2017 on, freight counts for more.
        const bool after = t >= 104;
        const double price = 1.4 + (after ? 0.62 : 0.35) * freight - (after ? 1.15 : 0.0) -
                             0.28 * stock + 0.5 * rate + 0.15 * energy + shock;
        out << fmt::format("{}-{:02},{:.2f},{:.2f},{:.2f},{:.4f},{:.2f}\n", 2009 + t / 12,
                           t % 12 + 1, std::exp(price), std::exp(freight), std::exp(stock),
                           std::exp(rate), std::exp(energy));
    }
}

/// Sixty years of the valley: three things that grow, each by itself, and the rain. Nothing ties
/// one to another but that all go up.
void writeYearly(const std::string& path) {
    Random random(20240505);
    std::ofstream out(path, std::ios::binary);
    out << "year,exports_kt,roads_km,households,rain_mm\n";
    double exports = std::log(9.0);
    double roads = std::log(140.0);
    double households = std::log(5200.0);
    for (int t = 0; t < 60; ++t) {
        exports += 0.032 + 0.06 * random.normal();
        roads += 0.025 + 0.03 * random.normal();
        households += 0.011 + 0.012 * random.normal();
        const double rain = 640.0 + 70.0 * random.normal();
        out << fmt::format("{},{:.2f},{:.1f},{:.0f},{:.0f}\n", 1964 + t, std::exp(exports),
                           std::exp(roads), std::exp(households), rain);
    }
}

/// Growers over nine years: nets against hail put up in different years, and more often where
/// yields were high already; years that all share; errors that echo; years without an answer.
void writePanel(const std::string& path) {
    Random random(20240504);
    std::ofstream out(path, std::ios::binary);
    out << "grower,year,yield_kg_ha,price_fl,nets,rain_mm,hail_days,hired_days\n";
    std::array<double, 9> year{};
    std::array<double, 9> rain{};
    std::array<double, 9> hail{};
    for (std::size_t t = 0; t < 9; ++t) {
        year[t] = 0.12 * random.normal();
        rain[t] = 40.0 * random.normal();
        hail[t] = 0.9 * random.uniform() + 0.4;
    }
    for (int i = 0; i < 240; ++i) {
        const double level = 0.3 * random.normal();
        const double exposed = 1.5 + 1.2 * random.uniform();
        // Nets come early to the good and the exposed, late or never to others.
        const double wish = 0.9 * level + 0.5 * (exposed - 2.1) + 0.6 * random.normal();
        const int since = wish > 0.55   ? 2017
                          : wish > 0.2  ? 2018
                          : wish > -0.1 ? 2019
                          : wish > -0.4 ? 2021
                                        : 9999;
        const int first =
            random.uniform() < 0.15 ? 2016 + static_cast<int>(3.0 * random.uniform()) : 2015;
        double echo = 0.15 * random.normal();
        for (int t = 0; t < 9; ++t) {
            echo = 0.45 * echo + 0.15 * std::sqrt(1.0 - 0.45 * 0.45) * random.normal();
            const double days = random.poisson(exposed * hail[static_cast<std::size_t>(t)]);
            const double wet = 620.0 + rain[static_cast<std::size_t>(t)] + 45.0 * random.normal();
            const double hired = 12.0 * std::exp(0.5 * level + 0.35 * random.normal());
            const bool nets = 2015 + t >= since;
            const double yield = 9.1 + level + year[static_cast<std::size_t>(t)] +
                                 (nets ? 0.11 : 0.0) - 0.035 * days + 0.0006 * (wet - 620.0) +
                                 0.05 * std::log(hired / 12.0) + echo;
            const double price =
                std::exp(-0.6 - 0.3 * year[static_cast<std::size_t>(t)] + 0.08 * random.normal());
            if (2015 + t < first || random.uniform() < 0.04) {
                continue;
            }
            out << fmt::format("G{:03},{},{:.0f},{:.3f},{},{:.0f},{:.0f},{:.1f}\n", i + 1, 2015 + t,
                               std::exp(yield), price, nets ? 1 : 0, wet, days, hired);
        }
    }
}

/// What a count of the whole valley knows of its growers.
void writeTotals(const std::string& path) {
    std::ofstream out(path, std::ios::binary);
    out << "variable,level,share,mean\n"
           "zone,Ridge,0.19,\n"
           "zone,River flat,0.29,\n"
           "zone,Upper terrace,0.25,\n"
           "zone,Lower terrace,0.27,\n"
           "age,,,49.2\n";
}

}  // namespace

int main(int argc, char** argv) {
    if (argc < 2) {
        std::cerr << "usage: make-demo DIRECTORY [ROWS]\n";
        return 2;
    }
    const std::string directory = argv[1];
    if (argc > 2) {
        writeGrowers(directory + "/growers_big.csv", std::stoi(argv[2]));
    } else {
        writeGrowers(directory + "/growers.csv", 1180);
        writePackage(directory + "/growers.datapackage.json");
        writeSummary(directory + "/coop_summary.csv");
        writePollination(directory + "/pollination.csv");
        writeMarket(directory + "/market_monthly.csv");
        writePanel(directory + "/growers_panel.csv");
        writeYearly(directory + "/valley_yearly.csv");
        writeTotals(directory + "/valley_totals.csv");
    }
    return 0;
}
