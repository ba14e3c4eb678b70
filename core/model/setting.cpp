#include "core/model/setting.h"

namespace rapporto::settings {
namespace {

using S = EstimatorSettings;

/// The form of a negative binomial; beside a count’s law it is written where it is not the usual.
Setting form() {
    return {.key = "form",
            .member = &S::form,
            .least = 1,
            .most = 2,
            .wrong = "‘form’ is 1 (variance μ + αμ) or 2 (μ + αμ²)"};
}

Setting countLaw() {
    return {.key = "count", .member = &S::count, .words = {"poisson", "negative-binomial"}};
}

Setting formOfPart() {
    Setting out = form();
    out.written = [](const S& s) { return s.form != S().form; };
    return out;
}

/// The constant of a robust fit, under the name it has there.
SettingsSpec tuning(const char* key) { return {{{.key = key, .member = &S::tuning}}}; }

}  // namespace

const SettingsSpec& bentLine() {
    static const SettingsSpec kSpec = {
        {{.key = "variable",
          .member = &S::variable,
          .needed = "a bent line names the ‘variable’ it bends in"},
         {.key = "bends", .member = &S::bends, .least = 1, .most = 5},
         {.key = "start",
          .member = &S::start,
          .wrong = "‘start’ lists numbers",
          .written = [](const S& s) { return !s.start.empty(); }},
         {.key = "fixed", .member = &S::fixed, .written = [](const S& s) { return s.fixed; }}},
        [](const S& s) -> const char* {
            if (!s.start.empty() && s.start.size() != static_cast<std::size_t>(s.bends)) {
                return "‘start’ has one place for each of the ‘bends’";
            }
            return s.fixed && s.start.empty() ? "bends that are fixed need their places in ‘start’"
                                              : nullptr;
        }};
    return kSpec;
}

const SettingsSpec& fuller() {
    static const SettingsSpec kSpec = {{{.key = "a",
                                         .member = &S::a,
                                         .least = 0,
                                         .most = 1000,
                                         .wrong = "‘a’ of Fuller’s estimator is a number from 0",
                                         .help = "Usual are 1 and 4."}}};
    return kSpec;
}

const SettingsSpec& moments() {
    static const SettingsSpec kSpec = {
        {{.key = "steps", .member = &S::steps, .words = {"two", "iterated", "continuous"}}}};
    return kSpec;
}

const SettingsSpec& earlierMoments() {
    static const SettingsSpec kSpec = {
        {{.key = "steps", .member = &S::steps, .words = {"one", "two"}},
         {.key = "depth",
          .member = &S::depth,
          .least = 0,
          .most = 1000,
          .wrong = "‘depth’ is a whole number: how many earlier moments serve",
          .help = "0 takes all there are."},
         {.key = "collapsed", .member = &S::collapsed}}};
    return kSpec;
}

const SettingsSpec& change() {
    static const SettingsSpec kSpec = {
        {{.key = "variable",
          .member = &S::variable,
          .needed = "an event study names the ‘variable’ that is switched on"},
         {.key = "before",
          .member = &S::before,
          .least = 1,
          .most = 100,
          .wrong = "‘before’ is a whole number from 1"},
         {.key = "after",
          .member = &S::after,
          .least = 0,
          .most = 100,
          .wrong = "‘after’ is a whole number from 0"},
         {.key = "weighting",
          .member = &S::weighting,
          .words = {"pooled", "cohorts", "group-time"}},
         {.key = "against",
          .member = &S::against,
          .words = {"not-yet", "never"},
          .written = [](const S& s) { return s.weighting == "group-time"; }}}};
    return kSpec;
}

const SettingsSpec& echo() {
    static const SettingsSpec kSpec = {
        {{.key = "order",
          .least = 1,
          .wrong = "‘order’ of feasible-ar is 1: an error carries over to the next moment",
          .help = "For longer echoes ask by least squares with errors that allow for "
                  "autocorrelation."},
         {.key = "first_row", .member = &S::firstRow, .words = {"kept", "dropped"}}}};
    return kSpec;
}

const SettingsSpec& spreadCount() {
    static const SettingsSpec kSpec = {{form()}};
    return kSpec;
}

const SettingsSpec& zeroParts() {
    static const SettingsSpec kSpec = {
        {countLaw(),
         formOfPart(),
         {.key = "zero_terms", .member = &S::zeroTerms, .written = [](const S& s) {
              return !s.zeroTerms.empty();
          }}}};
    return kSpec;
}

const SettingsSpec& withoutZeros() {
    static const SettingsSpec kSpec = {{countLaw(), formOfPart()}};
    return kSpec;
}

const SettingsSpec& penalty() {
    static const SettingsSpec kSpec = {{{.key = "penalised",
                                         .member = &S::penalised,
                                         .written = [](const S& s) { return s.penalised; }}}};
    return kSpec;
}

const SettingsSpec& cutOff() {
    static const SettingsSpec kSpec = {
        {{.key = "low", .member = &S::low}, {.key = "high", .member = &S::high}}};
    return kSpec;
}

const SettingsSpec& upperEnd() {
    static const SettingsSpec kSpec = {{{.key = "upper", .member = &S::variable}}};
    return kSpec;
}

const SettingsSpec& seenTerms() {
    static const SettingsSpec kSpec = {{{.key = "seen_terms", .member = &S::zeroTerms}}};
    return kSpec;
}

const SettingsSpec& levels() {
    static const auto ofOutcome = [](const S& s) { return s.outcomeLaw != S().outcomeLaw; };
    static const SettingsSpec kSpec = {
        {{.key = "levels",
          .member = &S::levels,
          .help = "As [{\"by\": \"village\", \"slopes\": [\"hives\"]}], the innermost first.",
          .needed = "‘levels’ names no grouping"},
         {.key = "likelihood", .member = &S::likelihood, .words = {"restricted", "full"}},
         {.key = "df",
          .member = &S::lawOfEffects,
          .words = {"satterthwaite", "kenward-roger", "normal"}},
         {.key = "outcome",
          .member = &S::outcomeLaw,
          .words = {"normal", "logit", "poisson"},
          .written = ofOutcome},
         {.key = "points", .member = &S::points, .least = 1, .most = 99, .written = ofOutcome}}};
    return kSpec;
}

const SettingsSpec& quantiles() {
    static const SettingsSpec kSpec = {{{.key = "at",
                                         .member = &S::at,
                                         .least = 0,
                                         .most = 1,
                                         .wrong = "‘at’ lists numbers between 0 and 1",
                                         .help = "Name one or several, as [0.1, 0.5, 0.9].",
                                         .needed = "‘at’ names no quantile",
                                         .instead = {0.5}}}};
    return kSpec;
}

const SettingsSpec& huber() {
    static const SettingsSpec kSpec = tuning("k");
    return kSpec;
}

const SettingsSpec& bisquare() {
    static const SettingsSpec kSpec = tuning("c");
    return kSpec;
}

const SettingsSpec& efficiency() {
    static const SettingsSpec kSpec = tuning("efficiency");
    return kSpec;
}

}  // namespace rapporto::settings
