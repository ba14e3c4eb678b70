#include "core/report/left_out_wording.h"

#include "core/base/format.h"

#include <cmath>

namespace rapporto {
namespace {

std::string percent(double share) { return shortNumber(100.0 * share, 3) + " %"; }

std::string timesText(double multiple) {
    return multiple == 1.0   ? "as strong as it"
           : multiple == 2.0 ? "twice as strong"
           : multiple == 3.0 ? "three times as strong"
                             : shortNumber(multiple, 3) + " times as strong";
}

/// All multiples of one benchmark in a sentence.
std::string benchmarkText(const std::vector<LeftOutBound>& bounds, std::size_t from, std::size_t to,
                          double se) {
    const int decimals = decimalsFor(se);
    const auto number = [&](double value) { return fixedNumber(value, decimals, true); };
    std::string text = "Against " + bounds[from].benchmark + ": a cause left out ";
    for (std::size_t k = from; k < to; ++k) {
        const LeftOutBound& b = bounds[k];
        text += (k > from ? "; " : "") + timesText(b.multiple) + " on both sides ";
        text += b.estimate ? "would leave **" + number(*b.estimate) + "** (" + number(*b.low) +
                                 " to " + number(*b.high) + ")"
                           : "cannot be: " + b.why;
    }
    return text + ".";
}

/// What takes the end of the interval to zero.
std::string endText(const LeftOut& found) {
    if (!found.robustnessAlpha) {
        return {};
    }
    return *found.robustnessAlpha == 0.0 ? "; its interval holds zero as it is"
                                         : "; to take the end of its interval there, **" +
                                               percent(*found.robustnessAlpha) + "**";
}

std::string ofRates(const LeftOut& found) {
    return "To explain the whole ratio of " + found.of +
           " a cause left out would have to go with it and with the outcome by ratios of **" +
           shortNumber(found.eValue->estimate, 3) + "** each; to take the interval to one, of **" +
           shortNumber(found.eValue->interval, 3) + "** each.";
}

/// By instruments: of the reduced form, then of what moves the term.
std::vector<std::string> ofStages(const LeftOut& found) {
    std::vector<std::string> out;
    for (const LeftOutStage& stage : found.stages) {
        const bool reduced = stage.outcome != found.of;
        out.push_back(
            (reduced ? "By instruments the effect of " + found.of +
                           " is zero exactly where the reduced form is. To take the effect of " +
                           stage.of + " on " + stage.outcome + " to zero, "
                     : "To take what " + stage.of + " does to " + stage.outcome + " to zero, ") +
            "a cause left out would have to explain **" + percent(stage.robustness) +
            "** of what the others leave of both" +
            (stage.robustnessAlpha == 0.0 ? "; its interval holds zero as it is."
                                          : "; to take the end of its interval there, **" +
                                                percent(stage.robustnessAlpha) + "**."));
    }
    return out;
}

/// Of a yes–no cause: as much selection on what is left out as on what is in.
std::string selectionText(const LeftOut& found) {
    if (!found.selection) {
        return "What is among the terms does not sort rows into " + found.of +
               " so as to draw towards its effect: as much selection on what is left out gives no "
               "bound.";
    }
    return "If what is left out sorted rows into " + found.of +
           " as what is in does, that alone would show as **" +
           fixedNumber(found.selection->bias, decimalsFor(found.se), true) +
           "**; to make all of the effect it would have to sort **" +
           shortNumber(found.selection->ratio, 3) + " times** as strongly.";
}

}  // namespace

std::vector<std::string> leftOutReading(const Answer& answer) {
    std::vector<std::string> out;
    if (!answer.leftOut) {
        return out;
    }
    if (!*answer.leftOut) {
        out.push_back("~What may be left out: " + answer.leftOut->error().text());
        return out;
    }
    const LeftOut& found = **answer.leftOut;
    if (found.eValue) {
        out.push_back(ofRates(found));
        return out;
    }
    if (!found.robustness) {
        return ofStages(found);
    }
    out.push_back(
        "To take the effect of " + found.of +
        " to zero, a cause left out would have to explain **" + percent(*found.robustness) +
        "** of what the terms leave both of it and of the outcome" + endText(found) + ".");
    for (std::size_t from = 0; from < found.bounds.size();) {
        std::size_t to = from + 1;
        while (to < found.bounds.size() &&
               found.bounds[to].benchmark == found.bounds[from].benchmark) {
            ++to;
        }
        out.push_back(benchmarkText(found.bounds, from, to, found.se));
        from = to;
    }
    if (found.stability && found.stability->delta) {
        std::string text =
            "As the other terms came in, the effect moved; if what is left out "
            "moves it as they did, it would have to be **" +
            shortNumber(*found.stability->delta, 3) +
            " times** as strong as they to leave no effect";
        if (found.stability->atOne) {
            text += ", and just as strong it would leave **" +
                    fixedNumber(*found.stability->atOne, decimalsFor(found.se), true) + "**";
        }
        out.push_back(text + ". That holds only if what is left out is like what is in.");
    }
    if (found.yesNo) {
        out.push_back(selectionText(found));
    }
    return out;
}

}  // namespace rapporto
