#pragma once

#include <cstdint>

namespace rapporto {

/// What a likelihood supposes of an outcome, and what its effects are counted in: one value a
/// family, named in the registry by its method. Who wants to know whether zeros stand behind a
/// hurdle, or whether effects are logarithms, asks here and not for a method’s name.
struct Family {
    enum class Outcome : std::uint8_t {
        Count,
        YesNo,
        Within,  ///< Yes or no among the rows of a group.
        Share,
        Ordered,
        Groups,
        CutOff,  ///< A normal outcome that is not seen everywhere as it is.
    };
    /// The outcome’s mean, or the share at and below a level, as a function of the first index.
    enum class Curve : std::uint8_t { Exp, Logit, Probit, Cloglog, Line };
    /// What the zeros of a count are.
    enum class Zeros : std::uint8_t { Counted, TwoKinds, Hurdle, Absent };
    /// What a row’s outcome is drawn from, where the fit alone tells.
    enum class Row : std::uint8_t { Untold, Count, YesNo, Level, BehindEnd, BetweenEnds };

    /// Words put around the outcome’s name.
    struct Around {
        const char* before = "";
        const char* after = "";
    };

    Outcome outcome = Outcome::Count;
    Curve curve = Curve::Exp;
    Row row = Row::Untold;
    Zeros zeros = Zeros::Counted;
    bool ownSpread = false;    ///< A count’s variance always has a parameter of its own.
    bool joined = false;       ///< Two equations whose errors are correlated.
    bool firstStages = false;  ///< What first stages leave stands among the terms.

    Around equation = {};       ///< What the terms add up to.
    Around ratio = {};          ///< What exp(b) is a ratio of; empty: of nothing.
    bool ratioOfLabel = false;  ///< … around what the outcome’s yes is called, not its name.
    const char* latent = "";    ///< Behind the outcome, where it is not seen as it is.
    const char* scale = "the outcome";  ///< What effects are counted in.

    /// Effects are logarithms: of a mean, of odds, of a hazard.
    [[nodiscard]] bool inLogs() const {
        return curve == Curve::Exp || curve == Curve::Logit || curve == Curve::Cloglog;
    }

    /// A count of one part, in rows whose law the fit tells.
    [[nodiscard]] bool isPlainCount() const { return row == Row::Count && zeros == Zeros::Counted; }

    /// … whose variance is its mean.
    [[nodiscard]] bool isPoisson() const { return isPlainCount() && !ownSpread; }

    /// A count of which the zeros are told by an equation of their own.
    [[nodiscard]] bool hasZeroPart() const {
        return zeros == Zeros::TwoKinds || zeros == Zeros::Hurdle;
    }
};

namespace families {
extern const Family kPoisson;
extern const Family kNegativeBinomial;
extern const Family kZeroInflated;
extern const Family kHurdle;
extern const Family kTruncated;
extern const Family kPoissonControl;
extern const Family kLogit;
extern const Family kProbit;
extern const Family kCloglog;
extern const Family kConditionalLogit;
extern const Family kFractionalLogit;
extern const Family kProbitInstruments;
extern const Family kOrderedLogit;
extern const Family kOrderedProbit;
extern const Family kMultinomialLogit;
extern const Family kTobit;
extern const Family kInterval;
extern const Family kHeckman;
}  // namespace families

}  // namespace rapporto
