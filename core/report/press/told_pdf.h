#pragma once

#include <string>
#include <vector>

namespace rapporto {

/// What a reader of a tagged document is told beside its pages.
struct PdfTold {
    /// Words in place of each figure, in the order of the pages; an empty one says nothing.
    std::vector<std::string> alternatives;
    std::string language = "en";
};

/// The document with these said: the catalogue marks it as tagged, names its language and has its
/// title shown; figures have their words. Added at the end, as a later edition of the
/// objects that change, so that nothing before it moves (ISO 32000-1, 7.5.6).
///
/// @param pdf  as cairo writes it. One that is written otherwise is given back as it is.
[[nodiscard]] std::string toldPdf(std::string pdf, const PdfTold& told);

}  // namespace rapporto
