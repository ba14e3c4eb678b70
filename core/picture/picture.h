#pragma once

#include "core/base/result.h"
#include "core/data/frame.h"
#include "core/data/survey.h"
#include "core/describe/exhibit.h"

#include <nlohmann/json_fwd.hpp>

#include <memory>
#include <span>
#include <string>
#include <vector>

namespace rapporto {

/// One picture of the desk as a person asked for it.
struct PictureSpec {
    std::string kind;             ///< An id of `allPictureKinds`; empty: the first that fits.
    std::vector<std::string> of;  ///< Names of variables, the outcome first.
    std::string title;            ///< Empty: made from the variables.
    bool logX = false;
    bool logY = false;
    double span = 0.5;    ///< Share of the points that the local smooth looks at.
    bool robust = false;  ///< The smooth holds odd points down.
    bool smooth = true;
    bool line = true;
    bool square = false;   ///< A parabola beside the line.
    bool bands = false;    ///< Of the line for the mean, and for a single row.
    bool weighted = true;  ///< By the survey’s weight where a design is declared.
    std::shared_ptr<const nlohmann::ordered_json> raw;  ///< As read, for keys of later versions.

    /// What was read does not count: two that mean the same are the same.
    friend bool operator==(const PictureSpec& a, const PictureSpec& b) {
        return a.kind == b.kind && a.of == b.of && a.title == b.title && a.logX == b.logX &&
               a.logY == b.logY && a.span == b.span && a.robust == b.robust &&
               a.smooth == b.smooth && a.line == b.line && a.square == b.square &&
               a.bands == b.bands && a.weighted == b.weighted;
    }
};

/// What stands on the desk; part of the study.
struct Desk {
    std::vector<PictureSpec> pictures;

    friend bool operator==(const Desk&, const Desk&) = default;
};

/// A table of texts; row 0 is its head.
struct PictureTable {
    std::string title;
    std::string note;
    std::vector<std::vector<std::string>> cells;
};

/// A number with its name, for the reading column.
struct NamedNumber {
    std::string name;
    std::string value;
};

/// A picture made: one exhibit, or a grid of them, or a table; with what its numbers say.
struct DrawnPicture {
    PictureSpec spec;  ///< With the kind that was drawn.
    std::size_t columns = 1;
    std::vector<Exhibit> exhibits;  ///< Row by row.
    std::optional<PictureTable> table;
    std::vector<std::string> words;  ///< Readings, marked as elsewhere.
    std::vector<NamedNumber> numbers;
    std::string nothing;  ///< Why there is nothing to see, and what would help; empty: there is.
    double slope = 0.0;   ///< Of a scatter’s line.
    std::vector<std::string> asked;  ///< What an engine that keeps the rows was asked for it.
};

/// Everything that a picture is made from. The frame has rows.
struct PictureInput {
    const Frame& frame;
    const PictureSpec& spec;
    const Survey& survey;
    double alpha = 0.05;
};

/// Which changes a kind of picture knows.
enum PictureOption : unsigned {
    kNoOption = 0,
    kLogX = 1U << 0U,
    kLogY = 1U << 1U,
    kSmoothing = 1U << 2U,  ///< Smooth, its span and robustness, line, square, bands.
    kWeights = 1U << 3U,
};

/// A kind of picture; registered in picture_table.cpp. `fits` looks at kinds of variables alone,
/// `make` is a pure function.
struct PictureKind {
    const char* id;    ///< As the study file names it.
    const char* name;  ///< As people read it.
    unsigned options;
    bool (*fits)(const Frame& frame, std::span<const std::string> of);
    DrawnPicture (*make)(const PictureInput& input);
    bool bySums = false;  ///< It can be drawn, too, where an engine keeps the rows.
};

[[nodiscard]] std::span<const PictureKind> allPictureKinds();
[[nodiscard]] const PictureKind* findPictureKind(const std::string& id);

/// The kinds that fit these variables, the best first; none where the frame lacks one. Where the
/// rows stay with an engine, those that it can be asked for.
[[nodiscard]] std::vector<const PictureKind*> fittingPictures(const Frame& frame,
                                                              std::span<const std::string> of);

/// The kind that a picture is drawn by, as asked where that fits, else the first that does; null:
/// none does.
[[nodiscard]] const PictureKind* kindToDraw(const Frame& frame, const PictureSpec& spec);

/// The picture of a kind that was made, with the title that a person gave it.
[[nodiscard]] DrawnPicture titled(DrawnPicture picture, PictureSpec spec);

/// Draws the picture by its kind where that fits, else by the first that does. Variables that the
/// frame does not have are left out; none left, or no row at hand: `nothing` says so.
[[nodiscard]] DrawnPicture drawPicture(const Frame& frame, PictureSpec spec, const Survey& survey,
                                       double alpha);

}  // namespace rapporto
