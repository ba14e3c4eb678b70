#pragma once

#include "core/base/job.h"
#include "core/base/result.h"

#include <pugixml.hpp>

#include <memory>
#include <string>
#include <vector>

struct zip;

namespace rapporto {

/// The archive that a spreadsheet file is. Before a part is unpacked it is seen what it announces,
/// and while it is unpacked that it keeps to it: what comes to far more than the file holds, or
/// than memory, is refused.
class SheetArchive {
  public:
    /// @return the archive, or File, or Syntax when it is none.
    [[nodiscard]] static Result<SheetArchive> open(const std::string& path);

    [[nodiscard]] bool has(const std::string& part) const;

    /// Parses a part that holds markup; entities are not followed.
    ///
    /// @param into  the document; it keeps what it needs of `text`, which must live as long.
    /// @return nothing, or Syntax when the part is missing or broken, TooLarge, Stopped.
    [[nodiscard]] Result<void> parse(const std::string& part, pugi::xml_document& into,
                                     std::vector<char>& text, const Job& job) const;

    [[nodiscard]] std::size_t bytes() const { return bytes_; }  ///< Of the file.

  private:
    struct Close {
        void operator()(zip* archive) const;
    };

    std::unique_ptr<zip, Close> archive_;
    std::string path_;
    std::size_t bytes_ = 0;
};

/// The refusal of a spreadsheet that does not follow its format.
[[nodiscard]] Refusal brokenSheet(const std::string& why, const std::string& path);

}  // namespace rapporto
