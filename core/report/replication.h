#pragma once

#include "core/report/report.h"
#include "core/study/sources.h"

#include <string>
#include <vector>

namespace rapporto {

/// What a replication folder is to hold.
struct ReplicationPlan {
    bool withData = true;  ///< Else checksums and a codebook stand for it.
    std::string version;   ///< Of this program.
};

/// What a replication folder is made from.
struct ReplicationInput {
    const Study& study;
    const std::string& directory;  ///< Where the study lies.
    const Sources& sources;
    const Frame& frame;
    const std::vector<Answer>& answers;
};

/// Writes a folder from which everything can be computed again: the study, its data under `data/`
/// (or, where they may not leave, their checksums and a codebook), results.json, the report as PDF
/// and HTML, its figures, a README with the one command, checksums of every file, and checksums of
/// the rows and columns of the data, by which a changed cell can be named. Wholly, or not at all.
///
/// @param folder  must not exist, or be empty.
/// @return nothing, or File.
[[nodiscard]] Result<void> writeReplication(const ReplicationInput& in, const std::string& folder,
                                            const ReplicationPlan& plan);

/// What verifying found, line by line; nothing: all is as it was.
struct VerifyReport {
    std::vector<std::string> differences;
    std::size_t compared = 0;  ///< Numbers in the results.
};

/// Looks at the checksums of a replication folder, computes its study anew and compares the results
/// number by number.
///
/// @param relative  by how much two numbers may differ.
/// @return the differences, or File and Syntax where it is no such folder.
[[nodiscard]] Result<VerifyReport> verifyReplication(const std::string& folder, double relative,
                                                     const Job& job);

}  // namespace rapporto
