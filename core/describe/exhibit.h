#pragma once

#include <cstddef>
#include <string>
#include <vector>

namespace rapporto {

/// A figure as data; a view draws it, nobody computes it again.
struct Exhibit {
    struct Line {
        std::string name;  ///< Drawn beside its end; may be empty.
        std::vector<double> x;
        std::vector<double> y;
        bool dashed = false;
    };

    std::string title;  ///< What it shows here, in words.
    std::string subtitle;
    std::string xTitle;
    std::string yTitle;
    std::vector<double> x;
    std::vector<double> y;
    std::vector<std::size_t> rows;    ///< Source row of each point, from 0.
    std::vector<std::size_t> marked;  ///< Source rows worth a ring.
    std::vector<Line> lines;
    bool zeroLine = false;
    std::vector<std::string> xNames;    ///< Of groups at x = 1, 2, …; empty: numbers.
    std::vector<std::string> barNames;  ///< With these, `x` holds the lengths of bars.
};

}  // namespace rapporto
