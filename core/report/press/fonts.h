#pragma once

#include <span>
#include <string>
#include <string_view>

namespace rapporto {

/// A face that ships with the application, as the bytes of its file.
struct ShippedFont {
    std::string_view name;  ///< Of the file: "STIX-Italic".
    bool serif = false;     ///< Of the report page; else of pictures and the window.
    bool bold = false;
    bool italic = false;
    std::string_view bytes;
};

[[nodiscard]] std::span<const ShippedFont> shippedFonts();

/// A face with no more letters than `text` has, as an OpenType file: what a page carries along.
/// The whole face where it cannot be taken apart.
[[nodiscard]] std::string facesFor(const ShippedFont& font, const std::string& text);

[[nodiscard]] std::string inBase64(std::string_view bytes);

}  // namespace rapporto
