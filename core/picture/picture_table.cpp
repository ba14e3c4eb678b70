#include "core/picture/desk_rows.h"
#include "core/picture/kinds.h"

#include <algorithm>
#include <array>

namespace rapporto {
namespace {

using Names = std::span<const std::string>;

bool isQuantity(const Frame& frame, const std::string& name) {
    return !isGroupsOnDesk(frame, name) && frame.variable(name)->measure != Measure::Date;
}

bool oneNumber(const Frame& frame, Names of) {
    return of.size() == 1 && !isGroupsOnDesk(frame, of[0]);
}

bool oneQuantity(const Frame& frame, Names of) {
    return of.size() == 1 && isQuantity(frame, of[0]);
}

bool oneGrouping(const Frame& frame, Names of) {
    return of.size() == 1 && isGroupsOnDesk(frame, of[0]);
}

bool quantityByGroups(const Frame& frame, Names of) {
    return of.size() == 2 && isQuantity(frame, of[0]) && isGroupsOnDesk(frame, of[1]);
}

bool twoGroupings(const Frame& frame, Names of) {
    return of.size() == 2 && isGroupsOnDesk(frame, of[0]) && isGroupsOnDesk(frame, of[1]);
}

bool twoOrGrouped(const Frame& frame, Names of) {
    return of.size() == 2 || (of.size() == 3 && !isGroupsOnDesk(frame, of[0]) &&
                              !isGroupsOnDesk(frame, of[1]) && isGroupsOnDesk(frame, of[2]));
}

bool numberAlongQuantity(const Frame& frame, Names of) {
    return of.size() == 2 && isQuantity(frame, of[1]) && !frame.column(of[0])->isText() &&
           (isQuantity(frame, of[0]) || frame.variable(of[0])->measure == Measure::YesNo);
}

bool inTime(const Frame& frame, const std::string& name) {
    return frame.layout().kind != Layout::Kind::CrossSection && isQuantity(frame, name) &&
           name != frame.layout().time;
}

bool overTime(const Frame& frame, Names of) {
    return !of.empty() && of.size() <= 2 && inTime(frame, of[0]) &&
           (of.size() == 1 || (isGroupsOnDesk(frame, of[1]) && of[1] != frame.layout().unit));
}

bool oneInTime(const Frame& frame, Names of) { return of.size() == 1 && inTime(frame, of[0]); }

bool twoInTime(const Frame& frame, Names of) {
    return of.size() == 2 && inTime(frame, of[0]) && inTime(frame, of[1]);
}

bool severalQuantities(const Frame& frame, Names of) {
    return of.size() >= 3 && of.size() <= 8 &&
           std::all_of(of.begin(), of.end(),
                       [&](const std::string& name) { return isQuantity(frame, name); });
}

bool manyNumbers(const Frame& frame, Names of) {
    return of.size() >= 3 && std::all_of(of.begin(), of.end(), [&](const std::string& name) {
               return !frame.column(name)->isText() &&
                      frame.variable(name)->measure != Measure::Groups;
           });
}

bool anything(const Frame& /*frame*/, Names of) { return !of.empty(); }

// The order says which is best where several fit.
constexpr std::array kKinds = {
    PictureKind{"scatter", "scatter", kLogX | kLogY | kSmoothing | kWeights, &twoOrGrouped,
                &drawScatter},
    PictureKind{"binned", "binned means", kNoOption, &numberAlongQuantity, &drawBinned, true},
    PictureKind{"distribution", "histogram", kLogX | kWeights, &oneNumber, &drawDistribution, true},
    PictureKind{"quantiles", "quantiles", kNoOption, &oneQuantity, &drawQuantiles},
    PictureKind{"cumulative", "cumulative", kLogX | kWeights, &oneNumber, &drawCumulative},
    PictureKind{"shares", "shares", kWeights, &oneGrouping, &drawShares, true},
    PictureKind{"groups", "by groups", kLogY | kWeights, &quantityByGroups, &drawGroups},
    PictureKind{"strips", "strips", kLogY, &quantityByGroups, &drawStrips},
    PictureKind{"boxes", "boxes", kLogY | kWeights, &quantityByGroups, &drawBoxes, true},
    PictureKind{"means", "means", kLogY | kWeights, &quantityByGroups, &drawMeans, true},
    PictureKind{"cross", "cross-table", kWeights, &twoGroupings, &drawCross, true},
    PictureKind{"over-time", "over time", kLogY | kWeights, &overTime, &drawOverTime},
    PictureKind{"autocorrelation", "autocorrelation", kNoOption, &oneInTime, &drawAutocorrelation},
    PictureKind{"cross-correlation", "cross-correlation", kNoOption, &twoInTime,
                &drawCrossCorrelation},
    PictureKind{"matrix", "scatter matrix", kNoOption, &severalQuantities, &drawScatterMatrix},
    PictureKind{"mosaic", "correlations", kNoOption, &manyNumbers, &drawMosaic, true},
    PictureKind{"table", "numbers", kWeights, &anything, &drawSummaryTable, true},
};

/// What can be seen of a summary, by the kind that it stands for.
struct OfSummary {
    const char* id;
    std::size_t least;  ///< Variables.
    DrawnPicture (*make)(const PictureInput& input);
};

constexpr std::array kOfSummary = {OfSummary{"mosaic", 2, &mosaicOfSummary},
                                   OfSummary{"table", 1, &numbersOfSummary}};

const OfSummary* findOfSummary(const PictureKind& kind, std::size_t variables) {
    const auto at = std::find_if(kOfSummary.begin(), kOfSummary.end(), [&](const OfSummary& one) {
        return std::string_view(one.id) == kind.id && variables >= one.least;
    });
    return at == kOfSummary.end() ? nullptr : &*at;
}

/// Whether a kind can be drawn of these variables, whoever has the rows.
bool canDraw(const Frame& frame, const PictureKind& kind, Names of) {
    return frame.left() != nullptr      ? kind.bySums && kind.fits(frame, of)
           : frame.moments() != nullptr ? findOfSummary(kind, of.size()) != nullptr
                                        : kind.fits(frame, of);
}

/// A special picture goes before the general scatter.
int rank(const Frame& frame, const PictureKind& kind, Names of) {
    const std::string id = kind.id;
    if (id == "scatter" && (quantityByGroups(frame, of) || twoGroupings(frame, of))) {
        return 2;
    }
    return id == "table" ? 3 : 0;
}

}  // namespace

std::span<const PictureKind> allPictureKinds() { return kKinds; }

const PictureKind* findPictureKind(const std::string& id) {
    const auto* at =
        std::find_if(kKinds.begin(), kKinds.end(), [&](const auto& kind) { return kind.id == id; });
    return at == kKinds.end() ? nullptr : &*at;
}

std::vector<const PictureKind*> fittingPictures(const Frame& frame,
                                                std::span<const std::string> of) {
    std::vector<const PictureKind*> out;
    if (std::any_of(of.begin(), of.end(),
                    [&](const std::string& name) { return frame.column(name) == nullptr; })) {
        return out;
    }
    for (const PictureKind& kind : kKinds) {
        if (canDraw(frame, kind, of)) {
            out.push_back(&kind);
        }
    }
    std::stable_sort(out.begin(), out.end(), [&](const auto* a, const auto* b) {
        return rank(frame, *a, of) < rank(frame, *b, of);
    });
    return out;
}

const PictureKind* kindToDraw(const Frame& frame, const PictureSpec& spec) {
    const auto fitting = fittingPictures(frame, spec.of);
    const auto asked = std::find_if(fitting.begin(), fitting.end(),
                                    [&](const auto* kind) { return kind->id == spec.kind; });
    return asked != fitting.end() ? *asked : fitting.empty() ? nullptr : fitting.front();
}

DrawnPicture titled(DrawnPicture picture, PictureSpec spec) {
    if (!spec.title.empty() && !picture.exhibits.empty()) {
        picture.exhibits.front().title = spec.title;
    }
    if (!spec.title.empty() && picture.table) {
        picture.table->title = spec.title;
    }
    picture.spec = std::move(spec);
    return picture;
}

DrawnPicture drawPicture(const Frame& frame, PictureSpec spec, const Survey& survey, double alpha) {
    std::erase_if(spec.of, [&](const std::string& name) { return frame.column(name) == nullptr; });
    DrawnPicture out;
    const PictureKind* kind = kindToDraw(frame, spec);
    if (frame.left() != nullptr) {
        out.nothing = "The rows stay where they lie: sums of them have to be asked for.";
    } else if (kind == nullptr) {
        out.nothing = "Put a variable on the desk: click it at the left.";
    } else {
        spec.kind = kind->id;
        const PictureInput input{frame, spec, survey, alpha};
        out = frame.moments() == nullptr ? kind->make(input)
                                         : findOfSummary(*kind, spec.of.size())->make(input);
    }
    return titled(std::move(out), std::move(spec));
}

}  // namespace rapporto
