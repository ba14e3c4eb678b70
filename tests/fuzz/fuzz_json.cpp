// Any bytes as JSON records: read or refused, never a crash.
#include "tests/fuzz/fuzz_file.h"

using namespace rapporto;

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
    fuzz::take(fuzz::write("r.json", std::string(reinterpret_cast<const char*>(data), size)));
    return 0;
}
