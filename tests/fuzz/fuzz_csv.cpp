// Any bytes as a delimited text: read or refused, never a crash. The first byte chooses options.
#include "core/io/csv.h"

#include <cstdint>

using namespace rapporto;

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
    if (size == 0) {
        return 0;
    }
    ReaderOptions options;
    const unsigned choice = data[0];
    const std::string_view bytes(reinterpret_cast<const char*>(data) + 1, size - 1);
    if ((choice & 1U) != 0) {
        options.delimiter = (choice & 2U) != 0 ? ';' : '\t';
    }
    if ((choice & 4U) != 0) {
        options.header = (choice & 8U) != 0;
    }
    if ((choice & 16U) != 0) {
        options.repairs = {{1 + (choice >> 6U), "1,\"2"}, {3, "a"}};
    }
    if ((choice & 32U) != 0) {
        options.encoding = (choice & 64U) != 0 ? "UTF-16" : "windows-1252";
    }
    const auto import = readCsvText(bytes, options, Job());
    if (import) {
        for (const Column& column : import->table.columns) {
            if (column.size() != import->table.rows()) {
                __builtin_trap();
            }
        }
    }
    (void)linesOfText(bytes, options, 1 + choice % 4, 5);
    return 0;
}
