// Any bytes as a journal that was left behind: what is whole of it is taken, never a crash.
#include "core/study/journal.h"
#include "tests/fuzz/fuzz_file.h"

using namespace rapporto;

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
    fuzz::write("left.journal", std::string(reinterpret_cast<const char*>(data), size));
    for (const LeftWork& left : workLeftIn(fuzz::folder().string())) {
        if (left.steps.empty() || left.whole > size) {
            __builtin_trap();
        }
        for (const JournalStep& step : left.steps) {
            (void)studyText(step.study);
        }
    }
    return 0;
}
