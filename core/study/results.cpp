// The results file.
#include "core/study/results.h"

#include "core/defend/defence_results.h"
#include "core/describe/calibration_facts.h"
#include "core/impute/complete_rows.h"
#include "core/impute/pooling.h"
#include "core/model/dynamic_panel.h"
#include "core/model/event_study.h"
#include "core/model/feasible_ar.h"
#include "core/model/instruments.h"
#include "core/model/likelihood.h"
#include "core/model/long_run.h"
#include "core/model/multilevel.h"
#include "core/model/outcome_models.h"
#include "core/model/panel.h"
#include "core/model/quantile.h"
#include "core/model/robust.h"
#include "core/model/smallest_seen.h"
#include "core/report/wording.h"
#include "core/study/model_comparison.h"
#include "core/study/question_kind.h"

#include <nlohmann/json.hpp>

#include <cmath>

namespace rapporto {

using Json = nlohmann::ordered_json;

Json numberJson(std::optional<double> x) { return x && std::isfinite(*x) ? Json(*x) : Json(); }

Json wholeJson(double x) {
    return !std::isfinite(x)    ? Json()
           : x == std::floor(x) ? Json(static_cast<std::int64_t>(x))
                                : Json(x);
}

Json coefficientsJson(const std::vector<Coefficient>& all, double alpha) {
    Json list = Json::array();
    for (const Coefficient& c : all) {
        list.push_back(Json{{"term", c.term},
                            {"label", c.label},
                            {"equation", c.equation},
                            {"estimate", numberJson(c.estimate)},
                            {"se", numberJson(c.se)},
                            {"statistic", numberJson(c.statistic)},
                            {"df", numberJson(c.df)},
                            {"p", numberJson(c.p)},
                            {"low", numberJson(c.low)},
                            {"high", numberJson(c.high)},
                            {"standardised", numberJson(c.standardised)},
                            {"smallest_seen", numberJson(smallestSeen(c, alpha))}});
        if (c.designEffect) {
            list.back()["design_effect"] = numberJson(c.designEffect);
        }
    }
    return list;
}

Json matrixJson(const Eigen::MatrixXd& matrix) {
    Json rows = Json::array();
    for (Eigen::Index i = 0; i < matrix.rows(); ++i) {
        Json row = Json::array();
        for (Eigen::Index j = 0; j < matrix.cols(); ++j) {
            row.push_back(numberJson(matrix(i, j)));
        }
        rows.push_back(std::move(row));
    }
    return rows;
}

/// What the checks under each question of the list say together.
Json askedJson(const Answer& a) {
    Json list = Json::array();
    for (const GroupVerdict& one : verdictsByGroup(a.checks, a.alpha)) {
        Json power = Json::object();
        for (const auto& [id, share] : one.power) {
            power[id] = numberJson(share);
        }
        list.push_back(Json{{"asks", one.group},
                            {"verdict", verdictName(one.worst)},
                            {"checks", one.ids},
                            {"power", power}});
    }
    return list;
}

Json checksJson(const std::vector<CheckResult>& all) {
    Json list = Json::array();
    for (const CheckResult& c : all) {
        Json df = Json::array();
        for (const double d : c.df) {
            df.push_back(wholeJson(d));
        }
        Json details = Json::object();
        for (const auto& [name, value] : c.details) {
            details[name] = numberJson(value);
        }
        list.push_back(
            Json{{"id", c.id},
                 {"statistic", numberJson(c.statistic)},
                 {"df", df},
                 {"distribution", c.distribution.empty() ? Json() : Json(c.distribution)},
                 {"p", numberJson(c.p)},
                 {"verdict", verdictName(c.verdict)},
                 {"reading", c.reading},
                 {"details", details}});
        if (!c.equation.empty()) {
            list.back()["equation"] = c.equation;
        }
    }
    return list;
}

namespace {

Json number(std::optional<double> x) { return numberJson(x); }

Json whole(double x) { return wholeJson(x); }

/// Null where it would be a table of more than a million numbers.
Json covariance(const Fit& fit) {
    constexpr Eigen::Index kMost = 1000;
    if (fit.covariance.rows() > kMost) {
        return {};
    }
    const auto exists = [&](Eigen::Index i) {
        return !fit.levelHasNoError ||
               fit.coefficients[static_cast<std::size_t>(i)].designTerm >= 0;
    };
    Json rows = Json::array();
    for (Eigen::Index i = 0; i < fit.covariance.rows(); ++i) {
        Json row = Json::array();
        for (Eigen::Index j = 0; j < fit.covariance.cols(); ++j) {
            row.push_back(exists(i) && exists(j) ? number(fit.covariance(i, j)) : Json());
        }
        rows.push_back(std::move(row));
    }
    return rows;
}

Json fTestJson(const std::optional<FTest>& f) {
    return f ? Json{{"value", number(f->value)},
                    {"df1", whole(f->df1)},
                    {"df2", whole(f->df2)},
                    {"p", number(f->p)}}
             : Json();
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
    for (const auto& [name, value] :
         {std::pair("r_squared_within", s.within), std::pair("r_squared_between", s.between),
          std::pair("r_squared_overall", s.overall)}) {
        if (value) {
            json[name] = number(value);
        }
    }
    json["f"] = fTestJson(s.f);
    return json;
}

Json stageJson(const FirstStage& stage, double alpha) {
    return Json{{"endogenous", stage.endogenous},
                {"coefficients", coefficientsJson(stage.coefficients, alpha)},
                {"partial_r_squared", number(stage.partialRSquared)},
                {"f", fTestJson(stage.f)},
                {"f_classical", fTestJson(stage.classicalF)}};
}

void putInstruments(Json& one, const InstrumentedFit& fit, double alpha) {
    one["first_stage"] = Json::array();
    for (const FirstStage& stage : fit.firstStages) {
        one["first_stage"].push_back(stageJson(stage, alpha));
    }
    one["least_squares"] = coefficientsJson(fit.leastSquares, alpha);
    one["reduced_form"] = coefficientsJson(fit.reducedForm.coefficients, alpha);
    one["fit"]["kappa"] = number(fit.kappa);
    if (fit.j) {
        one["fit"]["j"] = number(fit.j);
    }
    Json idle = Json::array();
    for (const DroppedTerm& d : fit.idle) {
        idle.push_back(Json{{"term", d.name}, {"reason", d.reason}});
    }
    one["idle_instruments"] = idle;
}

Json longRunJson(const std::vector<LongRunEffect>& all) {
    Json list = Json::array();
    for (const LongRunEffect& far : all) {
        list.push_back(Json{{"of", far.of},
                            {"estimate", number(far.estimate)},
                            {"se", number(far.se)},
                            {"statistic", number(far.statistic)},
                            {"df", number(far.df)},
                            {"p", number(far.p)},
                            {"low", number(far.low)},
                            {"high", number(far.high)},
                            {"loose", far.loose}});
    }
    return list;
}

void putPanel(Json& one, const PanelFit& panel) {
    Json json{{"units", panel.units}, {"rows_per_unit", number(panel.meanRows)}};
    if (panel.pairs > 0) {
        json["differences"] = panel.pairs;
    }
    if (panel.sigmaUnit) {
        json["sigma_unit"] = number(panel.sigmaUnit);
        json["sigma_rest"] = number(panel.sigmaRest);
        json["theta_low"] = number(panel.thetaLow);
        json["theta_high"] = number(panel.thetaHigh);
    }
    json["share_within"] = Json::object();
    for (const PanelFit::Share& share : panel.shares) {
        json["share_within"][share.column] = number(share.within);
    }
    one["panel"] = std::move(json);
}

void putLikelihood(Json& one, const LikelihoodFit& told) {
    Json& fit = one["fit"];
    fit["pseudo_r_squared"] = number(told.pseudoRSquared());
    fit["null_log_likelihood"] = number(told.nullLogLikelihood);
    fit["deviance"] = number(told.deviance);
    fit["pearson"] = number(told.pearson);
    fit["parameters"] = number(told.parameters);
    fit["iterations"] = told.iterations;
    fit["separated"] = told.separated;
    if (told.unseen > 0) {
        fit["unseen"] = told.unseen;
    }
    if (told.apartLogLikelihood) {
        fit["log_likelihood_apart"] = number(told.apartLogLikelihood);
    }
    if (told.dispersion) {
        fit["alpha"] = number(told.dispersion);
        fit["alpha_se"] = number(told.dispersionSe);
    }
}

void putQuantiles(Json& one, const QuantileFit& told) {
    Json list = Json::array();
    for (const QuantileFit::Point& p : told.points) {
        list.push_back(Json{{"at", number(p.at)},
                            {"goodness", number(p.goodness)},
                            {"bandwidth", number(p.bandwidth)},
                            {"sparsity", number(p.sparsity)},
                            {"unique", !p.manifold}});
    }
    one["quantiles"] = Json{{"points", std::move(list)},
                            {"crossing_rows", told.crossing},
                            {"equal_slopes", fTestJson(told.equal)}};
}

void putRobust(Json& one, const RobustFit& told) {
    one["robust"] = Json{{"scale", number(told.scale)},
                         {"tuning", number(told.tuning)},
                         {"rows_under_half", told.halved},
                         {"rows_under_tenth", told.out},
                         {"iterations", told.iterations}};
}

void putEvent(Json& one, const EventFit& event) {
    Json json{{"variable", event.variable},
              {"never", event.never},
              {"always", event.always},
              {"places", Json::array()},
              {"cohorts", Json::array()}};
    for (const EventFit::Place& p : event.places) {
        json["places"].push_back(Json{{"at", p.at},
                                      {"open", p.open},
                                      {"reference", p.reference},
                                      {"estimate", number(p.estimate)},
                                      {"se", number(p.se)},
                                      {"low", number(p.low)},
                                      {"high", number(p.high)},
                                      {"rows", p.rows}});
    }
    for (const EventFit::Cohort& c : event.cohorts) {
        json["cohorts"].push_back(Json{{"moment", c.moment}, {"units", c.units}});
    }
    json["mean_after"] = number(event.after);
    json["mean_after_se"] = number(event.afterSe);
    json["before"] = fTestJson(event.before);
    json["together"] = number(event.together);
    one["event"] = std::move(json);
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

Json valuesJson(const ScenarioValues& values) {
    Json json = Json::object();
    for (const auto& [name, value] : values) {
        json[name] = std::holds_alternative<double>(value) ? Json(std::get<double>(value))
                                                           : Json(std::get<std::string>(value));
    }
    return json;
}

void putEstimate(Json& into, const Estimate& e) {
    into["estimate"] = number(e.value);
    into["se"] = number(e.se);
    into["statistic"] = number(e.statistic);
    into["df"] = number(e.df);
    into["p"] = number(e.p);
    into["low"] = number(e.low);
    into["high"] = number(e.high);
}

Json predictions(const Answer& a) {
    if (!a.predictions) {
        return Json{{"message", a.predictions.error().text()}};
    }
    Json list = Json::array();
    for (const Prediction& p : *a.predictions) {
        Json one{{"at", valuesJson(p.at)}};
        if (!p.label.empty()) {
            one["label"] = p.label;
        }
        putEstimate(one, p.mean);
        one["row_low"] = number(p.rowLow);
        one["row_high"] = number(p.rowHigh);
        for (const auto& [level, share] : p.shares) {
            Json of{{"level", level}};
            putEstimate(of, share);
            one["shares"].push_back(std::move(of));
        }
        if (p.original) {
            const Retransformed& r = *p.original;
            one["original"] = Json{{"mean", number(r.mean)},
                                   {"low", number(r.low)},
                                   {"high", number(r.high)},
                                   {"middle", number(r.middle)},
                                   {"row_low", number(r.rowLow)},
                                   {"row_high", number(r.rowHigh)},
                                   {"smearing_factor", number(r.factor)}};
        }
        if (p.difference) {
            one["difference"] = Json::object();
            putEstimate(one["difference"], *p.difference);
        }
        for (const KnownGroup& group : p.groups) {
            one["groups"].push_back(Json{{"by", group.by},
                                         {"group", group.group},
                                         {"rows", group.rows},
                                         {"adds", number(group.adds)}});
        }
        if (p.overGroups) {
            one["over_groups"] = Json::object();
            putEstimate(one["over_groups"], *p.overGroups);
        }
        one["warnings"] = p.warnings;
        list.push_back(std::move(one));
    }
    return list;
}

Json effects(const Answer& a) {
    Json list = Json::array();
    for (std::size_t i = 0; i < a.effects.size(); ++i) {
        const EffectRequest& request = a.question.effects[i];
        const Json as = request.as == EffectRequest::As::Average ? Json("average")
                        : request.as == EffectRequest::As::AtMeans
                            ? Json("at-means")
                            : Json{{"at", valuesJson(request.at)}};
        if (!a.effects[i]) {
            list.push_back(
                Json{{"of", request.of}, {"as", as}, {"message", a.effects[i].error().text()}});
            continue;
        }
        for (const MarginalEffect& effect : *a.effects[i]) {
            Json one{{"of", request.of},
                     {"as", as},
                     {"scale", request.elasticity ? "elasticity" : "units"},
                     {"level", effect.level.empty() ? Json() : Json(effect.level)}};
            if (!effect.outcome.empty()) {
                one["outcome"] = effect.outcome;
            }
            putEstimate(one, effect.effect);
            if (!effect.group.empty()) {
                one["over"] = request.over;
                one["group"] = effect.group;
            }
            if (effect.contrast) {
                Json contrast = Json::object();
                putEstimate(contrast, *effect.contrast);
                one["from_first"] = std::move(contrast);
            }
            list.push_back(std::move(one));
        }
    }
    return list;
}

Json hypotheses(const Answer& a) {
    Json list = Json::array();
    for (std::size_t i = 0; i < a.hypotheses.size(); ++i) {
        Json one{{"hypothesis", a.question.hypotheses[i]}};
        if (!a.hypotheses[i]) {
            one["message"] = a.hypotheses[i].error().text();
            list.push_back(std::move(one));
            continue;
        }
        const HypothesisTest& h = *a.hypotheses[i];
        one["estimate"] = number(h.estimate);
        one["se"] = number(h.se);
        one["statistic"] = number(h.statistic);
        one["df1"] = number(h.df1);
        one["df2"] = number(h.df2);
        one["p"] = number(h.p);
        one["low"] = number(h.low);
        one["high"] = number(h.high);
        one["adjusted_p"] = number(h.adjusted);
        // A small p speaks against an equation and for a claim.
        one["says"] = verdictOn(h, a.alpha);
        if (!h.equations.empty()) {
            one["equations"] = h.equations;
        }
        list.push_back(std::move(one));
    }
    return list;
}

Json turningPointsJson(const Answer& a) {
    Json list = Json::array();
    for (const TurningPoint& t : a.turningPoints) {
        list.push_back(Json{{"of", t.of},
                            {"at", number(t.at)},
                            {"se", number(t.se)},
                            {"low", number(t.low)},
                            {"high", number(t.high)},
                            {"outside", t.outside},
                            {"kind", t.peak ? "peak" : "trough"},
                            {"share_below", number(t.below)}});
    }
    return list;
}

void putBends(Json& one, const BentLine& bent) {
    one["bends"] = Json::array();
    for (const Bend& b : bent.bends) {
        one["bends"].push_back(Json{{"at", number(b.at)},
                                    {"se", bent.fixed ? Json() : number(b.se)},
                                    {"low", bent.fixed ? Json() : number(b.low)},
                                    {"high", bent.fixed ? Json() : number(b.high)},
                                    {"interval", bent.fixed  ? Json()
                                                 : b.profile ? Json("profile")
                                                             : Json("wald")},
                                    {"slope_before", number(b.slopeBefore)},
                                    {"slope_after", number(b.slopeAfter)}});
    }
    one["bend_exists"] = Json{{"largest", number(bent.largest)}, {"p", number(bent.existence)}};
    one["bend_choices"] = Json::array();
    for (const BentLine::Choice& c : bent.choices) {
        one["bend_choices"].push_back(
            Json{{"bends", c.bends}, {"at", c.at}, {"rss", number(c.rss)}, {"bic", number(c.bic)}});
    }
}

Json correlationsJson(const CorrelationTable& t) {
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

Json levelsJson(const LevelsFit& fit) {
    Json list = Json::array();
    for (const LevelsFit::Level& level : fit.levels) {
        Json variances = Json::array();
        for (const LevelsFit::Variance& v : level.variances) {
            variances.push_back(Json{{"term", v.term},
                                     {"variance", number(v.variance)},
                                     {"sd", number(std::sqrt(v.variance))},
                                     {"low", number(v.low)},
                                     {"high", number(v.high)},
                                     {"at_boundary", v.atBoundary}});
        }
        Json correlations = Json::array();
        for (const LevelsFit::Correlation& r : level.correlations) {
            correlations.push_back(
                Json{{"terms", {level.variances[r.first].term, level.variances[r.second].term}},
                     {"value", number(r.value)},
                     {"low", number(r.low)},
                     {"high", number(r.high)},
                     {"at_boundary", r.atBoundary}});
        }
        list.push_back(Json{{"by", level.by},
                            {"groups", level.labels.size()},
                            {"variances", std::move(variances)},
                            {"correlations", std::move(correlations)},
                            {"share_between", number(level.share)}});
    }
    return list;
}

/// What groups share, of the whole variance.
Json sharesJson(const LevelsFit& fit) {
    Json shares = Json::object();
    for (const LevelsFit::Level& level : fit.levels) {
        shares[level.by] = number(level.share);
    }
    return shares;
}

Json calibrationJson(const SurveyRows& rows) {
    const CalibrationFacts facts = calibrationFacts(rows);
    Json totals = Json::array();
    for (const CalibrationFacts::Total& one : facts.totals) {
        totals.push_back(Json{{"variable", one.variable},
                              {"level", one.level.empty() ? Json() : Json(one.level)},
                              {"rows", one.rows},
                              {"drawn", number(one.drawn)},
                              {"known", number(one.known)},
                              {"reached", number(one.reached)}});
    }
    return Json{
        {"method", rows.calibration},           {"rows", facts.rows},
        {"lowest_ratio", number(facts.lowest)}, {"highest_ratio", number(facts.highest)},
        {"at_bounds", facts.atBounds},          {"weight_effect", number(facts.effectAfter)},
        {"targets", std::move(totals)}};
}

/// What several sets agree on, and how far.
Json imputationJson(const PooledFit& told, const std::vector<Coefficient>& coefficients) {
    Json terms = Json::array();
    for (std::size_t k = 0; k < coefficients.size(); ++k) {
        terms.push_back(Json{{"term", coefficients[k].term},
                             {"equation", coefficients[k].equation},
                             {"within", number(told.terms[k].within)},
                             {"between", number(told.terms[k].between)},
                             {"fraction_missing", number(told.terms[k].fractionMissing)}});
    }
    Json variables = Json::array();
    for (const PooledFit::Filled& one : told.filled) {
        variables.push_back(Json{{"name", one.name},
                                 {"way", one.way},
                                 {"filled", one.cells},
                                 {"settled", number(one.settled)}});
    }
    return Json{{"sets", told.sets},
                {"rounds", told.rounds},
                {"variables", std::move(variables)},
                {"terms", std::move(terms)},
                {"df_complete", number(told.complete)},
                {"complete_rows", told.completeRows},
                {"rows", {told.fewestRows, told.mostRows}}};
}

/// How complete rows stand for the others.
Json completeJson(const CompleteRows& told, double alpha) {
    return Json{{"complete", told.complete},
                {"rows", told.rows},
                {"chance", coefficientsJson(told.coefficients, alpha)},
                {"lowest_chance", number(told.lowestChance)},
                {"highest_chance", number(told.highestChance)},
                {"weight_effect", number(told.weightEffect)}};
}

Json leftOutJson(const Result<LeftOut>& found) {
    if (!found) {
        return Json{{"message", found.error().text()}};
    }
    Json bounds = Json::array();
    for (const LeftOutBound& b : found->bounds) {
        bounds.push_back(Json{{"benchmark", b.benchmark},
                              {"multiple", number(b.multiple)},
                              {"r2_with_term", number(b.withTerm)},
                              {"r2_with_outcome", number(b.withOutcome)},
                              {"estimate", number(b.estimate)},
                              {"se", number(b.se)},
                              {"low", number(b.low)},
                              {"high", number(b.high)}});
        if (!b.why.empty()) {
            bounds.back()["message"] = b.why;
        }
    }
    Json json{{"of", found->of},
              {"estimate", number(found->estimate)},
              {"se", number(found->se)},
              {"df", number(found->df)},
              {"partial_r2", number(found->partialR2)},
              {"robustness_value", number(found->robustness)},
              {"robustness_value_alpha", number(found->robustnessAlpha)},
              {"bounds", std::move(bounds)},
              {"stability", Json()},
              {"e_value", Json()}};
    if (found->stability) {
        json["stability"] = Json{{"r2_max", number(found->stability->r2Max)},
                                 {"delta", number(found->stability->delta)},
                                 {"estimate_at_one", number(found->stability->atOne)}};
    }
    if (found->selection) {
        json["selection"] = Json{{"bias", number(found->selection->bias)},
                                 {"ratio", number(found->selection->ratio)}};
    } else if (found->yesNo) {
        json["selection"] = Json();
    }
    for (const LeftOutStage& stage : found->stages) {
        json["stages"].push_back(Json{{"outcome", stage.outcome},
                                      {"of", stage.of},
                                      {"estimate", number(stage.estimate)},
                                      {"partial_r2", number(stage.partialR2)},
                                      {"robustness_value", number(stage.robustness)},
                                      {"robustness_value_alpha", number(stage.robustnessAlpha)}});
    }
    if (found->eValue) {
        json["e_value"] = Json{{"estimate", number(found->eValue->estimate)},
                               {"interval", number(found->eValue->interval)}};
    }
    return json;
}

}  // namespace

void explainResults(Json& one, const Answer& a) {
    one["coefficients"] = coefficientsJson(a.fit->coefficients, a.alpha);
    one["covariance"] = covariance(*a.fit);
    one["fit"] = statistics(a.fit->statistics);
    // How the errors come about: clusters, strata, draws, with their cautions.
    one["errors_note"] = a.fit->errorNote.empty() ? Json() : Json(a.fit->errorNote);
    one["variance_split"] = varianceSplit(*a.fit);
    one["checks"] = checksJson(a.checks);
    one["asked_of_it"] = askedJson(a);
    if (a.fit->instrumented) {
        putInstruments(one, *a.fit->instrumented, a.alpha);
    }
    if (a.fit->echo) {
        one["fit"]["rho"] = number(a.fit->echo->rho);
        one["fit"]["rounds"] = a.fit->echo->rounds;
        one["fit"]["starts"] = a.fit->echo->starts;
    }
    if (const auto far = longRunEffects(*a.design, *a.fit, a.alpha); !far.empty()) {
        one["long_run"] = longRunJson(far);
    }
    if (a.fit->panel) {
        putPanel(one, *a.fit->panel);
    }
    if (!a.design->effects.empty()) {
        Json held = Json::array();
        for (const SweptGrouping& effects : a.design->effects) {
            held.push_back(Json{{"name", effects.name}, {"groups", effects.count}});
        }
        one["held_fixed"] = held;
        one["fit"]["effects_df"] = whole(a.design->effectsRank);
    }
    if (a.fit->likelihood) {
        putLikelihood(one, *a.fit->likelihood);
    }
    if (const auto apart = apartTest(*a.fit, *a.design, a.question.errors)) {
        one["fit"]["apart_test"] =
            Json{{"statistic", number(apart->statistic)}, {"df", 1}, {"p", number(apart->p)}};
    }
    const auto& drawn = a.fit->resampling;
    for (std::size_t c = 0; drawn && c < a.fit->coefficients.size() &&
                            c < static_cast<std::size_t>(drawn->together.size());
         ++c) {
        one["coefficients"][c]["p_together"] =
            number(drawn->together(static_cast<Eigen::Index>(c)));
    }
    if (a.fit->quantile) {
        putQuantiles(one, *a.fit->quantile);
    }
    if (a.fit->robust) {
        putRobust(one, *a.fit->robust);
    }
    if (a.fit->event) {
        putEvent(one, *a.fit->event);
    }
    if (a.fit->dynamic) {
        one["fit"]["instruments"] = a.fit->dynamic->instruments;
        one["fit"]["changes"] = a.fit->dynamic->changes;
    }
    if (a.fit->levels) {
        one["fit"]["restricted"] = a.fit->levels->restricted;
        one["fit"]["log_likelihood_without"] = number(-0.5 * a.fit->levels->devianceWithout);
        if (a.fit->levels->points > 0) {
            one["fit"]["points"] = a.fit->levels->points;
        }
        one["levels"] = levelsJson(*a.fit->levels);
        one["share_between"] = sharesJson(*a.fit->levels);
    }
    if (a.fit->bent) {
        putBends(one, *a.fit->bent);
    }
    if (a.fit->resampling) {
        one["draws"] =
            Json{{"asked", a.fit->resampling->asked}, {"failed", a.fit->resampling->failed}};
    }
    if (!a.question.predict.empty()) {
        one["predictions"] = predictions(a);
    }
    if (!a.question.effects.empty()) {
        one["effects"] = effects(a);
    }
    if (a.design && a.design->survey && a.design->survey->known) {
        one["calibration"] = calibrationJson(*a.design->survey);
    }
    if (a.fit->pooled) {
        one["imputation"] = imputationJson(*a.fit->pooled, a.fit->coefficients);
    }
    if (a.fit->complete) {
        one["complete_rows"] = completeJson(*a.fit->complete, a.alpha);
    }
    if (a.leftOut) {
        one["left_out"] = leftOutJson(*a.leftOut);
    }
    putDefence(one, a);
    putForecast(one, a);
    if (!a.question.hypotheses.empty()) {
        one["hypotheses"] = hypotheses(a);
    }
    if (!a.turningPoints.empty()) {
        one["turning_points"] = turningPointsJson(a);
    }
    Json dropped = Json::array();
    for (const DroppedTerm& d : a.fit->dropped) {
        dropped.push_back(Json{{"term", d.name}, {"reason", d.reason}});
    }
    one["dropped_terms"] = dropped;
}

void correlateResults(Json& one, const Answer& a) {
    one["matrix"] = correlationsJson(*a.correlations);
}

namespace {

/// What speaks against a model beside another that it does not hold.
Json sideJson(const ModelTest::Side& side) {
    return Json{{"t", number(side.t)},
                {"p", number(side.p)},
                {"cox", number(side.n)},
                {"cox_p", number(side.pCox)}};
}

/// The test of a variant against what it is a variant of.
void putAgainst(Json& one, const Answer& a, const std::vector<Answer>& answers) {
    const Answer* other = nullptr;
    std::optional<ModelComparison> test;
    for (const Answer* candidate : comparedWith(a, answers)) {
        if (!test) {
            test = comparedModels(*candidate, a, Job());
            other = candidate;
        }
    }
    if (!test) {
        return;
    }
    using Kind = ModelComparison::Kind;
    Json against{{"question", other->question.id},
                 {"kind", test->kind == Kind::LikelihoodRatio ? "likelihood-ratio"
                          : test->kind == Kind::Nested        ? "nested"
                                                              : "non-nested"}};
    if (test->kind == Kind::NonNested) {
        against["against_it"] = sideJson(test->first);
        against["against_this"] = sideJson(test->second);
    } else {
        against["holds_it"] = test->grows;
        against["statistic"] = number(test->statistic);
        against["df"] = Json::array({whole(test->df1)});
        if (test->df2) {
            against["df"].push_back(whole(*test->df2));
        }
        against["p"] = number(test->p);
        if (test->half) {
            against["half_at_zero"] = true;
        }
        if (test->score) {
            against["score"] =
                Json{{"statistic", number(*test->score)}, {"p", number(*test->scoreP)}};
        }
    }
    one["against"] = std::move(against);
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
        const QuestionKind* kind = findKind(a.question.kind);
        if (!a.refusal && kind != nullptr) {
            kind->results(one, a);
            putAgainst(one, a, answers);
            one["reading"] = answerReading(a);
        }
        if (a.asked) {
            one["statements"] = *a.asked;
        }
        out["answers"].push_back(std::move(one));
    }
    return out;
}

}  // namespace rapporto
