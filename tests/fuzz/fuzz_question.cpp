// Random questions about random small tables: answered or refused, never a crash, a mistake of the
// program, or a number that cannot be; the order of rows and the names of variables change nothing.
#include "tests/fuzz/other_names.h"
#include "tests/fuzz/question_maker.h"

#include <nlohmann/json.hpp>
#include <unistd.h>

#include <algorithm>
#include <chrono>
#include <csignal>
#include <cstdint>
#include <cstdio>
#include <cstdlib>
#include <cstring>

using namespace rapporto;
using namespace rapporto::fuzz;

namespace {

Answer answered(const QuestionMaker::Made& made, const Table& table) {
    Study study;
    study.alpha = made.alpha;
    study.survey = made.survey;
    study.questions = {made.question};
    const Frame frame = Frame::make(table, made.entries, {}, {}, made.layout);
    Answer out = answerQuestion(study, frame, made.question, Job());
    (void)resultsJson(study, {out}).dump();
    return out;
}

Table turnedRound(const Table& table) {
    Table out = table;
    for (Column& column : out.columns) {
        std::vector<double> cells(column.numbers().begin(), column.numbers().end());
        std::reverse(cells.begin(), cells.end());
        column = Column::ofNumbers(column.name(), std::move(cells));
    }
    return out;
}

/// The order of rows is nothing to least squares and its kin.
std::string orderMatters(const Answer& a, const Answer& b) {
    if (a.refusal.has_value() != b.refusal.has_value()) {
        return "refused in one order: " + (a.refusal ? a.refusal->text() : b.refusal->text());
    }
    for (std::size_t j = 0; !a.refusal && j < a.fit->coefficients.size(); ++j) {
        const Coefficient& one = a.fit->coefficients[j];
        const Coefficient& other = b.fit->coefficients[j];
        const double least = std::max(std::abs(one.estimate), std::isfinite(one.se) ? one.se : 0.0);
        if (std::abs(one.estimate - other.estimate) > 1e-5 * least ||
            (std::isfinite(one.se) && std::abs(one.se - other.se) > 1e-5 * least)) {
            return "the order of rows changes " + one.term;
        }
    }
    return {};
}

std::string tried(std::uint64_t seed) {
    const QuestionMaker::Made made = QuestionMaker(seed).make();
    const Answer a = answered(made, made.table);
    if (std::getenv("RAPPORTO_FUZZ_SHOW") != nullptr) {
        Study study;
        study.questions = {made.question};
        std::printf("%s\n%s\n", studyText(study).c_str(), resultsJson(study, {a}).dump(1).c_str());
    }
    if (const std::string off = broken(a); !off.empty()) {
        return made.question.method + ", " + made.question.errors.shown() + ": " + off;
    }
    const std::string& method = made.question.method;
    // The repair of two-way clusters takes eigenvalues in the units of the terms.
    const bool ordered = made.question.errors.kind == "bootstrap" ||
                         made.question.errors.by.size() > 1 ||
                         made.layout.kind != Layout::Kind::CrossSection;
    const bool exact = a.fit && a.fit->exact;
    if (!ordered && !exact &&
        (method == "least-squares" || method == "two-stage" || method == "logit" ||
         method == "poisson")) {
        if (const std::string off = orderMatters(a, answered(made, turnedRound(made.table)));
            !off.empty()) {
            return method + ": " + off;
        }
    }
    const QuestionMaker::Made named = withOtherNames(made);
    const Answer b = answered(named, named.table);
    if (const std::string off = namesMatter(a, b); !off.empty()) {
        return method + ", other names: " + off;
    }
    const Frame frame = Frame::make(named.table, named.entries, {}, {}, named.layout);
    if (const std::string off = badRemedy(b, frame); !off.empty()) {
        return method + ", a remedy: " + off;
    }
    if (const std::string off = quotesNames(b, named); !off.empty()) {
        return method + ", a name in quotes: " + off;
    }
    return {};
}

}  // namespace

#ifdef RAPPORTO_LIBFUZZER

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
    std::uint64_t seed = 0;
    std::memcpy(&seed, data, std::min(size, sizeof(seed)));
    if (const std::string off = tried(seed); !off.empty()) {
        std::fprintf(stderr, "seed %llu: %s\n", static_cast<unsigned long long>(seed), off.c_str());
        __builtin_trap();
    }
    return 0;
}

#else

namespace {

volatile std::uint64_t current = 0;

/// Says which question it was: a crash or a hang tells nothing by itself.
void report(int signal) {
    char text[96];
    const int size = std::snprintf(text, sizeof(text), "signal %d at seed %llu\n", signal,
                                   static_cast<unsigned long long>(current));
    if (write(STDERR_FILENO, text, static_cast<std::size_t>(size)) < 0) {
        std::_Exit(3);
    }
    std::_Exit(2);
}

}  // namespace

/// fuzz_question SECONDS [FIRST SEED], or fuzz_question 0 SEED for one.
int main(int argc, char** argv) {
    const double seconds = argc > 1 ? std::atof(argv[1]) : 60.0;
    std::uint64_t seed = argc > 2 ? std::strtoull(argv[2], nullptr, 10) : 1;
    for (const int signal : {SIGSEGV, SIGABRT, SIGFPE, SIGALRM}) {
        std::signal(signal, &report);
    }
    const auto begin = std::chrono::steady_clock::now();
    std::size_t asked = 0;
    std::size_t found = 0;
    do {
        current = seed;
        alarm(60);
        if (const std::string off = tried(seed); !off.empty()) {
            std::printf("seed %llu: %s\n", static_cast<unsigned long long>(seed), off.c_str());
            std::fflush(stdout);
            ++found;
        }
        ++asked;
        ++seed;
    } while (std::chrono::duration<double>(std::chrono::steady_clock::now() - begin).count() <
             seconds);
    std::printf("%zu questions, %zu findings\n", asked, found);
    return found > 0 ? 1 : 0;
}

#endif
