#pragma once

#include "core/io/csv.h"

#include <functional>

namespace rapporto {

/// Tables that were read before, kept as columns that are mapped and not read: a table opens the
/// second time as fast as its head is looked at, whatever its size. The layout stands in
/// docs/column-store.md; every file of it may be deleted at any time. A store is used only while
/// the files it was made of are, by the system’s own reckoning (device, place, size, times of
/// change), those that were read.
namespace column_store {

/// `$XDG_CACHE_HOME/rapporto/columns`, else `~/.cache/rapporto/columns`; empty without a home.
[[nodiscard]] std::string usualFolder();

/// From now on tables whose files hold at least `leastBytes` are kept in `folder`; empty: none, as
/// before the first call. From any thread.
///
/// @param large  share of the memory left from which on cells lie there while they are read.
void keepIn(const std::string& folder, std::size_t leastBytes = std::size_t{32} << 20U,
            double large = 0.125);

/// The table that `path` and its parts were read as with these options, or nothing: none is kept,
/// it is of other files or of another version, or it is not whole.
///
/// @param files  those that the table stands in.
[[nodiscard]] std::optional<Import> find(const std::vector<std::string>& files,
                                         const ReaderOptions& options);

/// What tells whether files are the ones that were read; empty: they cannot be looked at, are
/// smaller than is worth it, or were changed within the last seconds.
[[nodiscard]] std::string stampOf(const std::vector<std::string>& files);

/// A folder for the cells of a table that is being read and is large beside memory: where it will
/// be kept, once there is room there for it and for what it is kept as.
///
/// @return empty where nothing is kept, the table is not that large, or the disk is too full.
[[nodiscard]] std::string folderForLarge(double bytes);

/// Keeps a table that was read while the files had this stamp. What stands in the way (a full disk,
/// no right, a stop) costs the store alone.
///
/// @return whether it is kept.
bool keep(const Import& import, const std::vector<std::string>& files, const ReaderOptions& options,
          const std::string& stamp, const Job& job);

/// The checksum of these files if it was worked out since they changed; else what `work` finds.
[[nodiscard]] Result<std::string> checksumOf(const std::vector<std::string>& files,
                                             const std::function<Result<std::string>()>& work);

}  // namespace column_store
}  // namespace rapporto
