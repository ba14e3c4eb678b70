// The results file.
#include "core/study/answer.h"

#include <nlohmann/json.hpp>

#include <cmath>

namespace rapporto {
namespace {

using Json = nlohmann::ordered_json;

/// A number, or null where it does not exist. The library writes the shortest text that reads
/// back as the same double, which loses none of its 17 digits.
Json number(std::optional<double> x) { return x && std::isfinite(*x) ? Json(*x) : Json(); }

Json whole(double x) { return x == std::floor(x) ? Json(static_cast<std::int64_t>(x)) : Json(x); }

Json coefficients(const Fit& fit) {
    Json list = Json::array();
    for (const Coefficient& c : fit.coefficients) {
        list.push_back(Json{{"term", c.term},
                            {"label", c.label},
                            {"equation", c.equation},
                            {"estimate", number(c.estimate)},
                            {"se", number(c.se)},
                            {"statistic", number(c.statistic)},
                            {"df", number(c.df)},
                            {"p", number(c.p)},
                            {"low", number(c.low)},
                            {"high", number(c.high)},
                            {"standardised", number(c.standardised)}});
    }
    return list;
}

Json covariance(const Fit& fit) {
    Json rows = Json::array();
    for (Eigen::Index i = 0; i < fit.covariance.rows(); ++i) {
        Json row = Json::array();
        for (Eigen::Index j = 0; j < fit.covariance.cols(); ++j) {
            row.push_back(number(fit.covariance(i, j)));
        }
        rows.push_back(std::move(row));
    }
    return rows;
}

Json statistics(const FitStatistics& s) {
    Json json{{"r_squared", number(s.rSquared)},
              {"r_squared_kind", s.uncentred ? "uncentred (about zero)" : "centred"},
              {"adjusted_r_squared", number(s.adjustedRSquared)},
              {"sigma", number(s.sigma)},
              {"rss", number(s.rss)},
              {"tss", number(s.tss)},
              {"log_likelihood", number(s.logLikelihood)},
              {"aic", number(s.aic)},
              {"bic", number(s.bic)}};
    json["f"] = s.f ? Json{{"value", number(s.f->value)},
                           {"df1", whole(s.f->df1)},
                           {"df2", whole(s.f->df2)},
                           {"p", number(s.f->p)}}
                    : Json();
    return json;
}

Json varianceSplit(const Fit& fit) {
    Json list = Json::array();
    for (const VarianceSource& v : fit.varianceSplit) {
        list.push_back(Json{{"source", v.source},
                            {"df", whole(v.df)},
                            {"ss", number(v.ss)},
                            {"ms", number(v.ms)},
                            {"f", number(v.f)},
                            {"p", number(v.p)}});
    }
    return list;
}

Json checks(const Answer& answer) {
    Json list = Json::array();
    for (const CheckResult& c : answer.checks) {
        Json df = Json::array();
        for (const double d : c.df) {
            df.push_back(whole(d));
        }
        Json details = Json::object();
        for (const auto& [name, value] : c.details) {
            details[name] = number(value);
        }
        list.push_back(
            Json{{"id", c.id},
                 {"statistic", number(c.statistic)},
                 {"df", df},
                 {"distribution", c.distribution.empty() ? Json() : Json(c.distribution)},
                 {"p", number(c.p)},
                 {"verdict", verdictName(c.verdict)},
                 {"reading", c.reading},
                 {"details", details}});
    }
    return list;
}

Json matrixJson(const Eigen::MatrixXd& matrix) {
    Json rows = Json::array();
    for (Eigen::Index i = 0; i < matrix.rows(); ++i) {
        Json row = Json::array();
        for (Eigen::Index j = 0; j < matrix.cols(); ++j) {
            row.push_back(number(matrix(i, j)));
        }
        rows.push_back(std::move(row));
    }
    return rows;
}

Json relationJson(const CorrelationTable& t) {
    Json json{{"variables", t.variables},
              {"r", matrixJson(t.r)},
              {"p", matrixJson(t.p)},
              {"n", matrixJson(t.n)},
              {"low", matrixJson(t.low)},
              {"high", matrixJson(t.high)},
              {"adjusted_p", matrixJson(t.adjusted)},
              {"statistic", matrixJson(t.statistic)}};
    if (!t.holding.empty()) {
        json["holding"] = t.holding;
        json["without_holding"] = matrixJson(t.plain);
        json["semi_partial"] = matrixJson(t.semiPartial);
    }
    return json;
}

}  // namespace

Json resultsJson(const Study& study, const std::vector<Answer>& answers) {
    Json out{{"format", "rapporto-results"},
             {"version", 1},
             {"title", study.title},
             {"answers", Json::array()}};
    for (const Answer& a : answers) {
        Json one{{"question", a.question.id},
                 {"status", a.refusal ? "refused" : "answered"},
                 {"message", a.refusal ? Json(a.refusal->text()) : Json()},
                 {"rows", Json{{"source", a.rows.source},
                               {"in_sample", a.rows.inSample},
                               {"used", a.rows.used},
                               {"missing", a.rows.missing},
                               {"set_aside", a.rows.setAside},
                               {"dropped", a.rows.dropped}}}};
        if (!a.rows.missingBy.empty()) {
            one["rows"]["missing_by"] = Json::array();
            for (const RowCounts::Lack& lack : a.rows.missingBy) {
                one["rows"]["missing_by"].push_back(
                    Json{{"variable", lack.name}, {"rows", lack.rows}, {"alone", lack.alone}});
            }
        }
        if (a.fit) {
            one["coefficients"] = coefficients(*a.fit);
            one["covariance"] = covariance(*a.fit);
            one["fit"] = statistics(a.fit->statistics);
            one["variance_split"] = varianceSplit(*a.fit);
            one["checks"] = checks(a);
            Json dropped = Json::array();
            for (const DroppedTerm& d : a.fit->dropped) {
                dropped.push_back(Json{{"term", d.name}, {"reason", d.reason}});
            }
            one["dropped_terms"] = dropped;
            one["reading"] = a.reading;
        }
        if (a.relation) {
            one["matrix"] = relationJson(*a.relation);
            one["reading"] = a.reading;
        }
        out["answers"].push_back(std::move(one));
    }
    return out;
}

}  // namespace rapporto
