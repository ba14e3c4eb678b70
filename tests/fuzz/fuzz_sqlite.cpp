// Any bytes as a database: read or refused, never a crash, and not for ever.
#include "tests/fuzz/fuzz_file.h"

using namespace rapporto;

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
    ReaderOptions options;
    options.patience = 1.0;
    fuzz::take(fuzz::write("d.sqlite", std::string(reinterpret_cast<const char*>(data), size)),
               options);
    return 0;
}
