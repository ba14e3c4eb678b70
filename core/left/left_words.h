#pragma once

#include <string>

namespace rapporto {

/// How one speaks of where rows are left.
struct LeftWords {
    std::string stay;    ///< “stay with the database”.
    std::string engine;  ///< What is asked: “a database”.
    std::string asked;   ///< The same, once it is known which: “the database”.
    std::string fetch;   ///< What brings the rows: “fetch the rows”.
    std::string view;    ///< What helps where a value looks at other rows; begins a sentence.
};

}  // namespace rapporto
