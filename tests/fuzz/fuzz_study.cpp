// Any text as a study: read or refused. What was read is written, and what was written reads back
// and is written the same.
#include "core/study/sources.h"
#include "core/study/study.h"

#include <cstdint>
#include <cstdio>

using namespace rapporto;

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
    const std::string text(reinterpret_cast<const char*>(data), size);
    const auto study = readStudyText(text);
    if (!study) {
        (void)study.error().text();
        return 0;
    }
    const std::string written = studyText(*study);
    const auto again = readStudyText(written);
    if (!again) {
        std::fprintf(stderr, "%s\n%s\n", again.error().text().c_str(), written.c_str());
        __builtin_trap();
    }
    if (studyText(*again) != written) {
        std::fprintf(stderr, "%s\n----\n%s\n", written.c_str(), studyText(*again).c_str());
        __builtin_trap();
    }
    (void)namesUsed(*study);
    return 0;
}
