#include "core/study/answer.h"

#include "core/base/hash.h"
#include "core/io/table_file.h"
#include "core/report/wording.h"

#include <filesystem>

namespace rapporto {

Answer answerQuestion(const Study& study, const Frame& frame, const Question& question,
                      const Job& job) {
    Answer answer;
    answer.question = question;
    answer.alpha = study.alpha;
    answer.rows.source = frame.rows();
    if (question.unbuilt) {
        answer.refusal = question.unbuilt;
        return answer;
    }
    auto design = makeDesign(frame, question, study.sets);
    if (!design) {
        answer.refusal = design.error();
        return answer;
    }
    answer.rows = design->counts;
    const Estimator* estimator = findEstimator(question.method);
    if (estimator == nullptr) {
        answer.refusal = Refusal{ErrorCode::NotBuilt,
                                 "the method ‘" + question.method + "’ is not built yet",
                                 "",
                                 "Use least squares.",
                                 {}};
        return answer;
    }
    auto fit = estimator->estimate(*design, question.errors, study.alpha, job);
    if (!fit) {
        answer.refusal = fit.error();
        return answer;
    }
    answer.checks = runChecks(frame, question, *design, *fit, study.alpha, job);
    if (job.stopped()) {
        answer.refusal = Refusal{ErrorCode::Stopped,
                                 "the computation was stopped",
                                 "",
                                 "Change anything to start it again.",
                                 {}};
        return answer;
    }
    answer.design = std::make_shared<const Design>(*std::move(design));
    answer.fit = std::make_shared<const Fit>(*std::move(fit));
    answer.reading = overallReading(answer);
    return answer;
}

Result<Import> loadSource(const Study& study, const std::string& directory, bool acceptChanged,
                          const Job& job) {
    if (study.source.file.empty()) {
        return refuse(ErrorCode::File, "the study names no source file", "source",
                      "Bring data in.");
    }
    const std::filesystem::path file(study.source.file);
    const std::string path =
        file.is_absolute() ? file.string() : (std::filesystem::path(directory) / file).string();
    if (!study.source.sha256.empty()) {
        const auto sum = sha256OfFile(path);
        if (!sum) {
            return tl::make_unexpected(sum.error());
        }
        if (*sum != study.source.sha256 && !acceptChanged) {
            return refuse(ErrorCode::Changed, "the source is not the one this study was made with",
                          path, "Look at what changed, then accept it.");
        }
    }
    return readTableFile(path, study.source.reader, job);
}

}  // namespace rapporto
