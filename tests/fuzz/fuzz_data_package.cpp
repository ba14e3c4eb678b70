// Any bytes as the description beside a fixed CSV: read or refused, never a crash.
#include "core/data/frame.h"
#include "core/io/table_file.h"
#include "tests/fuzz/fuzz_file.h"

using namespace rapporto;

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
    static const std::string kTable = fuzz::write(
        "all.csv", "zone,hours,said,when\n1,-9,a,2019-01-01\n2,4,b,\n9,-95,,2020-05-01\n");
    const std::string path =
        fuzz::write("all.datapackage.json", std::string(reinterpret_cast<const char*>(data), size));
    const auto import = readTableFile(path, {}, Job());
    if (import) {
        if (import->table.columns.size() != import->table.variables.size()) {
            __builtin_trap();
        }
        (void)codebookRows(import->table);
        (void)Frame::make(import->table, {}, {}, {}, {});
    }
    return 0;
}
