#pragma once

#include <set>
#include <string>
#include <vector>

namespace rapporto {

/// Which files outside its folder each study may read: what the person has allowed by name, or has
/// chosen when the study was made. Kept in a file of its own, not in the study, which comes from
/// anywhere and may say anything.
class AllowedFiles {
  public:
    /// @param file  JSON; empty: nothing outlasts the object.
    explicit AllowedFiles(std::string file);

    /// Those of `files` that the study at `study` may not read yet.
    [[nodiscard]] std::vector<std::string> missing(const std::string& study,
                                                   const std::vector<std::string>& files) const;

    void allow(const std::string& study, const std::vector<std::string>& files);

  private:
    [[nodiscard]] std::set<std::string> read() const;

    std::string file_;
    std::set<std::string> here_;
};

}  // namespace rapporto
