#include "core/study/workbench.h"

#include "core/base/border.h"
#include "core/base/hash.h"
#include "core/base/room.h"
#include "core/study/missing_answer.h"

#include <fmt/format.h>

#include <algorithm>
#include <bit>
#include <cstdint>

namespace rapporto {
namespace {

constexpr std::size_t kMostCached = 200;
constexpr std::size_t kLeastBudget = std::size_t{256} << 20U;
constexpr std::size_t kMostSteps = 500;

/// What the frame depends on, as text: the study without what it does not look at.
std::string framePart(const Study& study) {
    Study part;
    part.shape = study.shape;
    part.source.moments = study.source.moments;
    part.variables = study.variables;
    part.derived = study.derived;
    part.sample = study.sample;
    part.layout = study.layout;
    std::string out = studyText(part);
    // Of kept columns what they hold, in a few bytes.
    for (const KeptColumn& c : study.kept) {
        std::uint64_t sum = 1469598103934665603U;
        for (const double v : *c.values) {
            sum = (sum ^ std::bit_cast<std::uint64_t>(v)) * 1099511628211U;
        }
        out += fmt::format("\n{} {} {} {} {}", c.name, c.label, c.unit, c.values->size(), sum);
    }
    return out;
}

}  // namespace

Workbench::Workbench(std::function<void()> changed, std::size_t workers)
    : changed_(std::move(changed)), budget_(std::max(kLeastBudget, memoryLeft() / 4)) {
    for (std::size_t w = 0; w < workers; ++w) {
        workers_.emplace_back([this](const std::stop_token& stopping) { work(stopping); });
    }
}

Workbench::~Workbench() {
    {
        const std::scoped_lock lock(mutex_);
        // Else another worker would find what is stopped here still wanted, and begin it anew.
        stopped_ = true;
        for (const Task& task : running_) {
            task.job.stop();
        }
    }
    for (auto& worker : workers_) {
        worker.request_stop();
    }
    wake_.notify_all();
}

void Workbench::open(Study study, Sources sources, std::vector<Study> past) {
    const std::scoped_lock lock(mutex_);
    study_ = std::move(study);
    sources_ = std::move(sources);
    ++tableKey_;
    past_ = std::move(past);
    if (past_.size() > kMostSteps) {
        past_.erase(past_.begin(), past_.end() - static_cast<std::ptrdiff_t>(kMostSteps));
    }
    future_.clear();
    newest_.clear();
    cache_.clear();
    known_.clear();
    sets_.clear();
    frame_.reset();
    frameReady_ = 0;
    shaping_.reset();
    shapingKey_ = 0;
    changedStudy();
}

void Workbench::replaceSources(Sources sources) {
    const std::scoped_lock lock(mutex_);
    sources_ = std::move(sources);
    ++tableKey_;
    changedStudy();
}

void Workbench::addSource(const Source& source, std::shared_ptr<const Table> table) {
    const std::scoped_lock lock(mutex_);
    sources_.others[sourceText(source)] = std::move(table);
}

Sources Workbench::sources() const {
    const std::scoped_lock lock(mutex_);
    return sources_;
}

std::shared_ptr<const Shaping> Workbench::shaping() const {
    const std::scoped_lock lock(mutex_);
    return shaping_;
}

Study Workbench::study() const {
    const std::scoped_lock lock(mutex_);
    return study_;
}

std::shared_ptr<const Table> Workbench::table() const {
    const std::scoped_lock lock(mutex_);
    return sources_.table;
}

Result<void> Workbench::apply(const Edit& edit) {
    const std::scoped_lock lock(mutex_);
    auto next = rapporto::apply(study_, edit);
    if (!next) {
        return tl::make_unexpected(next.error());
    }
    past_.push_back(std::exchange(study_, *std::move(next)));
    if (past_.size() > kMostSteps) {
        past_.erase(past_.begin());
    }
    future_.clear();
    changedStudy();
    return {};
}

void Workbench::restate(const std::function<void(Study&)>& change) {
    const std::scoped_lock lock(mutex_);
    change(study_);
    std::for_each(past_.begin(), past_.end(), change);
    std::for_each(future_.begin(), future_.end(), change);
    changedStudy();
}

std::string Workbench::undoLabel() const {
    const std::scoped_lock lock(mutex_);
    return past_.empty() || study_.trail.empty() ? "" : study_.trail.back().did;
}

std::string Workbench::redoLabel() const {
    const std::scoped_lock lock(mutex_);
    return future_.empty() || future_.back().trail.empty() ? "" : future_.back().trail.back().did;
}

void Workbench::undo() {
    const std::scoped_lock lock(mutex_);
    if (!past_.empty()) {
        future_.push_back(std::exchange(study_, std::move(past_.back())));
        past_.pop_back();
        changedStudy();
    }
}

void Workbench::redo() {
    const std::scoped_lock lock(mutex_);
    if (!future_.empty()) {
        past_.push_back(std::exchange(study_, std::move(future_.back())));
        future_.pop_back();
        changedStudy();
    }
}

std::shared_ptr<const Frame> Workbench::frame() const {
    const std::scoped_lock lock(mutex_);
    return frame_;
}

bool Workbench::frameIsFresh() const {
    const std::scoped_lock lock(mutex_);
    return frame_ && frameReady_ == frameKey_;
}

std::shared_ptr<const Answer> Workbench::answer(const std::string& id) const {
    const std::scoped_lock lock(mutex_);
    const auto at = newest_.find(id);
    return at == newest_.end() ? nullptr : at->second.answer;
}

bool Workbench::isFresh(const std::string& id) const {
    const std::scoped_lock lock(mutex_);
    const auto key = answerKeys_.find(id);
    const auto at = newest_.find(id);
    return key != answerKeys_.end() && at != newest_.end() && at->second.key == key->second;
}

bool Workbench::isComplete(const std::string& id) const {
    const std::scoped_lock lock(mutex_);
    const auto key = answerKeys_.find(id);
    return key != answerKeys_.end() && cache_.contains(key->second);
}

void Workbench::setFocus(const std::string& id) {
    const std::scoped_lock lock(mutex_);
    focus_ = id;
}

Progress Workbench::progress() const {
    const std::scoped_lock lock(mutex_);
    Progress progress;
    if (!hasSource()) {
        return progress;
    }
    progress.wanted = 1 + answerKeys_.size();
    progress.ready = frameReady_ == frameKey_ ? 1 : 0;
    for (const auto& [id, key] : answerKeys_) {
        progress.ready += cache_.contains(key) ? 1U : 0U;
    }
    if (stopped_ && running_.empty()) {
        progress.ready = progress.wanted;
    }
    for (const Task& task : running_) {
        progress.share = std::max(progress.share, task.job.done());
    }
    const auto at = newest_.find(focus_);
    const auto key = answerKeys_.find(focus_);
    if (at != newest_.end() && key != answerKeys_.end() && at->second.key == key->second) {
        progress.checks = at->second.answer->checks.size();
        progress.awaited = awaitedChecks(*at->second.answer);
    }
    return progress;
}

bool Workbench::isIdle() const {
    const std::scoped_lock lock(mutex_);
    return running_.empty();
}

void Workbench::stop() {
    const std::scoped_lock lock(mutex_);
    stopped_ = true;
    for (const Task& task : running_) {
        task.job.stop();
    }
}

void Workbench::wait() {
    std::unique_lock lock(mutex_);
    watched_ = false;
    paint_.notify_all();
    wake_.wait(lock, [this] {
        if (!hasSource() || (stopped_ && running_.empty())) {
            return true;
        }
        return running_.empty() && frameReady_ == frameKey_ &&
               std::all_of(answerKeys_.begin(), answerKeys_.end(),
                           [this](const auto& one) { return cache_.contains(one.second); });
    });
    watched_ = true;
}

std::size_t Workbench::revision() const {
    const std::scoped_lock lock(mutex_);
    return revision_;
}

void Workbench::changedStudy() {
    ++revision_;
    stopped_ = false;
    frameKey_ = frameKey();
    answerKeys_.clear();
    for (const Question& question : study_.questions) {
        answerKeys_[question.id] = answerKey(question);
        const auto cached = cache_.find(answerKeys_[question.id]);
        if (cached != cache_.end()) {
            newest_[question.id] = {cached->first, cached->second};
        }
    }
    std::erase_if(newest_, [this](const auto& one) { return !answerKeys_.contains(one.first); });
    std::size_t bytes = 0;
    for (const auto& [key, answer] : cache_) {
        bytes += bytesOf(*answer);
    }
    if (cache_.size() > kMostCached || bytes > budget_) {
        std::erase_if(cache_, [this](const auto& one) {
            return std::none_of(answerKeys_.begin(), answerKeys_.end(),
                                [&](const auto& key) { return key.second == one.first; });
        });
    }
    for (const Task& task : running_) {
        const bool wanted = task.question.empty() ? task.key == frameKey_
                                                  : answerKeys_.contains(task.question) &&
                                                        answerKeys_[task.question] == task.key;
        if (!wanted) {
            task.job.stop();
        }
    }
    wake_.notify_all();
}

std::uint64_t Workbench::frameKey() const {
    return contentHash(framePart(study_), contentHash(fmt::format("table {}", tableKey_)));
}

std::uint64_t Workbench::shapeKey() const {
    Study part;
    part.shape = study_.shape;
    part.source.file = study_.source.file;  // It names a level of an appended table's mark.
    // Missing codes matter where cells are looked into; a label does not, but is seldom changed.
    part.variables = study_.shape.empty() ? part.variables : study_.variables;
    return contentHash(studyText(part), contentHash(fmt::format("table {}", tableKey_)));
}

std::shared_ptr<const Shaping> Workbench::shapingOf(const Study& study, const Sources& sources,
                                                    std::uint64_t key) {
    {
        const std::scoped_lock lock(mutex_);
        if (shaping_ && shapingKey_ == key) {
            return shaping_;
        }
    }
    return std::make_shared<const Shaping>(sources.moments ? Shaping{}
                                                           : shapeTable(study, sources));
}

std::uint64_t Workbench::answerKey(const Question& question) const {
    // Title and lead do not change numbers, but they are shown from the answer: they count.
    std::string sets = fmt::format("{:a}", study_.alpha);
    for (const TermSet& set : study_.sets) {
        sets += set.name;
        for (const auto& member : set.members) {
            sets += "\x1f" + member;
        }
    }
    // What an answer takes from the study beside its own question.
    Study part;
    part.survey = study_.survey;
    part.seed = study_.seed;
    part.imputation = question.missing == "imputed" ? study_.imputation : ImputationSpec{};
    // Where nodes stand is no part of an answer.
    Question asked = question;
    asked.trace.places.clear();
    return contentHash(questionText(asked), contentHash(sets + studyText(part), frameKey_));
}

std::uint64_t Workbench::setsKey() const {
    Study part;
    part.imputation = study_.imputation;
    part.survey.cluster = study_.survey.cluster;
    part.seed = study_.seed;
    return contentHash(studyText(part), frameKey_);
}

Result<KnownSets::Sets> Workbench::sets(const Job& job) {
    Study study;
    std::shared_ptr<const Frame> frame;
    std::uint64_t key = 0;
    {
        const std::scoped_lock lock(mutex_);
        if (frame_ == nullptr || frameReady_ != frameKey_) {
            return stoppedWork();
        }
        study = study_;
        frame = frame_;
        key = setsKey();
    }
    return sets_.get(
        key, [&] { return setsOf(study, *frame, job); }, job);
}

KnownSets::Sets Workbench::setsAtHand() const {
    const std::scoped_lock lock(mutex_);
    return frameReady_ == frameKey_ ? sets_.find(setsKey()) : nullptr;
}

bool Workbench::running(std::uint64_t key) const {
    return std::any_of(running_.begin(), running_.end(),
                       [key](const Task& task) { return task.key == key && !task.job.stopped(); });
}

std::optional<Workbench::Task> Workbench::next() {
    if (!hasSource() || stopped_) {
        return std::nullopt;
    }
    if (frameReady_ != frameKey_) {
        return running(frameKey_) ? std::nullopt : std::optional(Task{"", frameKey_, Job()});
    }
    std::optional<Task> found;
    for (const Question& question : study_.questions) {
        const std::uint64_t key = answerKeys_[question.id];
        if (!cache_.contains(key) && !running(key) && (!found || question.id == focus_)) {
            found = Task{question.id, key, Job()};
        }
    }
    return found;
}

void Workbench::work(const std::stop_token& stopping) {
    while (!stopping.stop_requested()) {
        Task task;
        Study study;
        Sources sources;
        std::uint64_t shapeKeyNow = 0;
        std::uint64_t setsKeyNow = 0;
        std::shared_ptr<const Shaping> shaping;
        std::shared_ptr<const Frame> frame;
        {
            std::unique_lock lock(mutex_);
            std::optional<Task> found;
            if (!wake_.wait(lock, stopping, [&] {
                    found = next();
                    return found.has_value();
                })) {
                return;
            }
            task = *found;
            running_.push_back(task);
            study = study_;
            sources = sources_;
            shapeKeyNow = shapeKey();
            setsKeyNow = setsKey();
            frame = frame_;
        }
        std::shared_ptr<const Answer> answer;
        if (task.question.empty()) {
            const auto made = guarded("the table", [&]() -> Result<std::shared_ptr<const Frame>> {
                shaping = shapingOf(study, sources, shapeKeyNow);
                return std::make_shared<const Frame>(makeFrame(study, sources, *shaping));
            });
            frame = made ? *made
                         : std::make_shared<const Frame>(
                               Frame::make({}, {}, {}, {}, {}).refusedFor(made.error()));
            task.shapeKey = shaping ? shapeKeyNow : 0;
        } else {
            const Question* question = study.find(task.question);
            Making making(task.job);
            making.known = &known_;
            making.show = [&](const Answer& part) { showPart(task, part); };
            making.sets = [&](const Job& job) {
                return sets_.get(
                    setsKeyNow, [&] { return setsOf(study, *frame, job); }, job);
            };
            answer =
                std::make_shared<const Answer>(answerQuestion(study, *frame, *question, making));
        }
        finish(task, frame, answer, shaping);
        changed_();
    }
}

/// What is there of an answer that is being made. Where a check is awaited the one before stands.
void Workbench::showPart(const Task& task, const Answer& part) {
    const auto wanted = [&] {
        const auto key = answerKeys_.find(task.question);
        return !task.job.stopped() && key != answerKeys_.end() && key->second == task.key;
    };
    std::shared_ptr<const Answer> before;
    {
        const std::scoped_lock lock(mutex_);
        const auto at = newest_.find(task.question);
        before = at == newest_.end() ? nullptr : at->second.answer;
        if (!wanted()) {
            return;
        }
    }
    auto shown = std::make_shared<Answer>(part);
    std::map<std::string, const CheckResult*> known;
    for (std::size_t c = 0; before && c < before->checks.size(); ++c) {
        known[checkKey(before->checks[c])] = &before->checks[c];
    }
    for (CheckResult& check : shown->checks) {
        const auto at = check.awaited ? known.find(checkKey(check)) : known.end();
        if (at != known.end()) {
            check = *at->second;
            check.awaited = true;
        }
    }
    {
        const std::scoped_lock lock(mutex_);
        if (!wanted()) {
            return;
        }
        newest_[task.question] = {task.key, std::move(shown)};
        painted_ = false;
    }
    changed_();
    const bool first = std::all_of(part.checks.begin(), part.checks.end(),
                                   [](const CheckResult& one) { return one.awaited; });
    if (first && !part.checks.empty()) {
        letPaint(task.question);
    }
}

void Workbench::waitForPainter(std::chrono::milliseconds most) {
    const std::scoped_lock lock(mutex_);
    patience_ = most;
}

void Workbench::painted() {
    {
        const std::scoped_lock lock(mutex_);
        painted_ = true;
    }
    paint_.notify_all();
}

void Workbench::letPaint(const std::string& question) {
    std::unique_lock lock(mutex_);
    if (question == focus_ && patience_.count() > 0) {
        paint_.wait_for(lock, patience_, [&] { return painted_ || !watched_; });
    }
}

void Workbench::finish(const Task& task, std::shared_ptr<const Frame> frame,
                       std::shared_ptr<const Answer> answer,
                       std::shared_ptr<const Shaping> shaping) {
    const std::scoped_lock lock(mutex_);
    std::erase_if(running_, [&](const Task& one) {
        return one.key == task.key && one.question == task.question;
    });
    if (task.question.empty()) {
        if (task.key == frameKey_) {
            frame_ = std::move(frame);
            frameReady_ = task.key;
            shaping_ = std::move(shaping);
            shapingKey_ = task.shapeKey;
        }
    } else if (!task.job.stopped()) {
        const auto key = answerKeys_.find(task.question);
        cache_[task.key] = answer;
        if (key != answerKeys_.end() && key->second == task.key) {
            newest_[task.question] = {task.key, std::move(answer)};
        }
    }
    wake_.notify_all();
}

}  // namespace rapporto
