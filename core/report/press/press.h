#pragma once

#include "core/base/result.h"
#include "core/report/blocks.h"

#include <memory>
#include <string>
#include <vector>

namespace rapporto {

/// A report set on pages: what a printer, a file and the window show, measured once. Belongs to the
/// thread that made it.
///
/// Nothing reaches over the margins: a table that is too wide gets smaller letters (down to 7.5
/// points), then a page on its side, then its columns part by part; sentences break into lines.
class Press {
  public:
    /// Where a block, or a part of it, stands on a page; points from its upper left corner.
    struct Place {
        std::size_t block = 0;
        std::size_t page = 0;
        double x = 0.0;
        double y = 0.0;
        double width = 0.0;
        double height = 0.0;
        std::string part = {};  ///< Of a cell that can be edited, as Cell has it.
    };

    struct Sheet {
        double width = 0.0;
        double height = 0.0;
    };

    /// @return the pages, or File where no letters can be set (the faces do not load).
    [[nodiscard]] static Result<std::shared_ptr<const Press>> make(const ReportPages& pages);

    [[nodiscard]] std::size_t pages() const;
    [[nodiscard]] Sheet sheet(std::size_t page) const;  ///< Its size in points.
    [[nodiscard]] const std::vector<Place>& places() const;

    /// Paints a page on a ground of 32-bit pixels, alpha first and multiplied in, white before.
    void paint(std::size_t page, double scale, unsigned char* pixels, int width, int height,
               int bytesPerLine) const;

    /// The pages as PDF, tagged by what each part is (heading, paragraph, row of a table, figure)
    /// and with its faces inside.
    [[nodiscard]] Result<std::string> pdf() const;

    Press(const Press&) = delete;
    Press& operator=(const Press&) = delete;
    ~Press();

  private:
    struct Parts;
    explicit Press(std::unique_ptr<Parts> parts);
    std::unique_ptr<Parts> parts_;
};

/// One picture as a page of PDF of its own size.
[[nodiscard]] Result<std::string> drawingPdf(const Drawing& drawing, const std::string& title);

/// One picture in dots, on white.
[[nodiscard]] Result<std::string> drawingPng(const Drawing& drawing, double dotsPerInch);

}  // namespace rapporto
