#include "core/report/press/fonts.h"

#include <hb-subset.h>

#include <array>
#include <cstdint>

// The files stand in the program itself, so that a runner without a folder of its own sets pages.
#define RAPPORTO_FONT(symbol, file)                \
    __asm__(                                       \
        ".section .rodata\n"                       \
        ".balign 16\n"                             \
        ".global " #symbol "_begin\n" #symbol      \
        "_begin:\n"                                \
        ".incbin \"" RAPPORTO_FONT_FOLDER "/" file \
        "\"\n"                                     \
        ".global " #symbol "_end\n" #symbol        \
        "_end:\n"                                  \
        ".byte 0\n"                                \
        ".previous\n");                            \
    extern "C" const char symbol##_begin[];        \
    extern "C" const char symbol##_end[]

RAPPORTO_FONT(rapporto_stix_regular, "STIX-Regular.otf");
RAPPORTO_FONT(rapporto_stix_italic, "STIX-Italic.otf");
RAPPORTO_FONT(rapporto_stix_bold, "STIX-Bold.otf");
RAPPORTO_FONT(rapporto_lato_regular, "Lato-Regular.ttf");

namespace rapporto {
namespace {

std::string_view between(const char* begin, const char* end) {
    return {begin, static_cast<std::size_t>(end - begin)};
}

}  // namespace

std::span<const ShippedFont> shippedFonts() {
    static const std::array kFonts = {
        ShippedFont{"STIX-Regular", true, false, false,
                    between(rapporto_stix_regular_begin, rapporto_stix_regular_end)},
        ShippedFont{"STIX-Italic", true, false, true,
                    between(rapporto_stix_italic_begin, rapporto_stix_italic_end)},
        ShippedFont{"STIX-Bold", true, true, false,
                    between(rapporto_stix_bold_begin, rapporto_stix_bold_end)},
        ShippedFont{"Lato-Regular", false, false, false,
                    between(rapporto_lato_regular_begin, rapporto_lato_regular_end)},
    };
    return kFonts;
}

std::string facesFor(const ShippedFont& font, const std::string& text) {
    const auto whole = [&] { return std::string(font.bytes); };
    hb_blob_t* blob = hb_blob_create(font.bytes.data(), static_cast<unsigned>(font.bytes.size()),
                                     HB_MEMORY_MODE_READONLY, nullptr, nullptr);
    hb_face_t* face = hb_face_create(blob, 0);
    hb_blob_destroy(blob);
    hb_subset_input_t* input = hb_subset_input_create_or_fail();
    if (input == nullptr) {
        hb_face_destroy(face);
        return whole();
    }
    // The letters of the text, and those of plain English: what a reader's browser adds.
    hb_buffer_t* letters = hb_buffer_create();
    hb_buffer_add_utf8(letters, text.data(), static_cast<int>(text.size()), 0, -1);
    unsigned count = 0;
    const hb_glyph_info_t* infos = hb_buffer_get_glyph_infos(letters, &count);
    hb_set_t* wanted = hb_subset_input_unicode_set(input);
    for (unsigned i = 0; i < count; ++i) {
        hb_set_add(wanted, infos[i].codepoint);
    }
    hb_set_add_range(wanted, 0x20, 0x7E);
    hb_buffer_destroy(letters);
    hb_face_t* small = hb_subset_or_fail(face, input);
    hb_subset_input_destroy(input);
    hb_face_destroy(face);
    if (small == nullptr) {
        return whole();
    }
    hb_blob_t* bytes = hb_face_reference_blob(small);
    unsigned length = 0;
    const char* data = hb_blob_get_data(bytes, &length);
    std::string out(data, length);
    hb_blob_destroy(bytes);
    hb_face_destroy(small);
    return out.empty() ? whole() : out;
}

std::string inBase64(std::string_view bytes) {
    static constexpr char kLetters[] =
        "ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789+/";
    std::string out;
    out.reserve((bytes.size() + 2) / 3 * 4);
    for (std::size_t i = 0; i < bytes.size(); i += 3) {
        const auto byte = [&](std::size_t k) {
            return i + k < bytes.size() ? static_cast<unsigned char>(bytes[i + k]) : 0U;
        };
        const std::uint32_t three = byte(0) << 16U | byte(1) << 8U | byte(2);
        out += kLetters[three >> 18U & 63U];
        out += kLetters[three >> 12U & 63U];
        out += i + 1 < bytes.size() ? kLetters[three >> 6U & 63U] : '=';
        out += i + 2 < bytes.size() ? kLetters[three & 63U] : '=';
    }
    return out;
}

}  // namespace rapporto
