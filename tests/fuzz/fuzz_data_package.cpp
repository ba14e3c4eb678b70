// Any bytes as the description beside a fixed CSV: read or refused, never a crash.
#include "tests/fuzz/fuzz_file.h"

using namespace rapporto;

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
    static const std::string kTable = fuzz::write(
        "all.csv", "zone,hours,said,when\n1,-9,a,2019-01-01\n2,4,b,\n9,-95,,2020-05-01\n");
    const std::string path =
        fuzz::write("all.datapackage.json", std::string(reinterpret_cast<const char*>(data), size));
    fuzz::take(path);
    return 0;
}
