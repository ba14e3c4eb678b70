#include "core/report/report.h"

#include "core/base/format.h"
#include "core/base/shown_names.h"
#include "core/model/likelihood.h"
#include "core/model/quantile.h"
#include "core/model/shown_question.h"
#include "core/report/frozen.h"
#include "core/report/lens.h"
#include "core/report/report_items.h"
#include "core/report/wording.h"
#include "core/study/question_kind.h"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>

namespace rapporto {
namespace {

using Kind = ReportBlock::Kind;

class ReportBuilder {
  public:
    ReportBuilder(const Study& study, const AnswersById& answers, const Frame* frame,
                  const Job& job)
        : study_(study),
          answers_(answers),
          frame_(frame),
          job_(job),
          sheet_(study.reportStyle.language) {}

    std::vector<ReportBlock> build() {
        const auto items = reportItems(study_);
        for (std::size_t i = 0; i < items.size(); ++i) {
            auto& blocks = sheet_.blocks();
            const std::size_t from = blocks.size();
            add(items[i]);
            for (std::size_t b = from; b < blocks.size(); ++b) {
                blocks[b].item = static_cast<int>(i);
            }
            takeWords(items[i], from);
        }
        return std::move(sheet_.blocks());
    }

  private:
    /// The answers an item speaks of; refused ones leave a note instead, and kinds of question that
    /// have blocks of their own write them.
    std::vector<const Answer*> answersOf(const ReportItem& item, bool everyKind) {
        std::vector<std::string> ids = item.questions;
        for (const TableLook::Panel& panel : item.table.panels) {
            ids.insert(ids.end(), panel.questions.begin(), panel.questions.end());
        }
        if (ids.empty() && study_.lead() != nullptr) {
            ids.push_back(study_.lead()->id);
        }
        std::vector<const Answer*> found;
        for (const auto& id : ids) {
            const auto at = answers_.find(id);
            if (at == answers_.end()) {
                sheet_.put(Kind::Note, "Question " + id + " is not computed yet.");
            } else if (at->second->refusal) {
                sheet_.put(Kind::Note,
                           questionTitle(*at->second) + ": " + at->second->refusal->text());
            } else if (const QuestionKind* kind = findKind(at->second->question.kind);
                       !everyKind && kind != nullptr && kind->report != nullptr) {
                kind->report(sheet_, *at->second, item.item);
            } else {
                found.push_back(at->second);
            }
        }
        return found;
    }

    void add(const ReportItem& item) {
        if (item.frozen) {
            addFrozen(item);
            return;
        }
        addLive(item);
    }

    void addLive(const ReportItem& item) {
        const ReportItemKind* kind = findReportItem(item.item);
        if (kind == nullptr) {
            sheet_.put(Kind::Note,
                       "An item of kind ‘" + item.item + "’ is not known to this version.");
            return;
        }
        const bool ofAnswers = (kind->reads & item_reads::kQuestions) != 0;
        const bool everyKind = (kind->reads & item_reads::kEveryKind) != 0;
        const auto found = ofAnswers ? answersOf(item, everyKind) : std::vector<const Answer*>();
        if (ofAnswers && found.empty() && std::string(kind->id) != "assumptions") {
            return;
        }
        kind->add({study_, item, found, answers_, frame_, sheet_, job_});
    }

    /// As it stood, numbered as tables and figures come now; says when the answers have moved on.
    void addFrozen(const ReportItem& item) {
        auto blocks = thawed(item.frozen->blocks);
        if (!blocks) {
            sheet_.put(Kind::Note, "This item was frozen, and what it held cannot be read: " +
                                       blocks.error().text());
            return;
        }
        ReportSheet live(study_.reportStyle.language);
        std::swap(live, sheet_);
        ReportItem now = item;
        now.frozen.reset();
        addLive(now);
        std::swap(live, sheet_);
        const bool moved = frozenBlocks(live.blocks()) != item.frozen->blocks;
        for (ReportBlock& block : *blocks) {
            sheet_.addNumbered(std::move(block));
        }
        sheet_.put(Kind::Note, "As of " + item.frozen->at.substr(0, 10) +
                                   (moved ? "; the answer has moved on since." : "."));
    }

    /// A caption and a note that a person wrote stand in place of the ones made.
    void takeWords(const ReportItem& item, std::size_t from) {
        bool captioned = false;
        bool noted = false;
        auto& blocks = sheet_.blocks();
        for (std::size_t b = from; b < blocks.size(); ++b) {
            ReportBlock& block = blocks[b];
            if (block.kind == Kind::Caption && !captioned && !item.caption.empty()) {
                const std::size_t number = block.text.find(".** ");
                block.text = (number == std::string::npos ? std::string()
                                                          : block.text.substr(0, number + 4)) +
                             item.caption;
                captioned = true;
            }
            if (block.kind == Kind::Note && block.part == "note" && !noted && !item.note.empty()) {
                block.text = item.note;
                noted = true;
            }
        }
    }

    const Study& study_;
    const AnswersById& answers_;
    const Frame* frame_;
    const Job& job_;
    ReportSheet sheet_;
};

}  // namespace

std::string questionTitle(const Answer& answer) {
    return answer.question.title.empty() ? answer.question.id : answer.question.title;
}

std::vector<ReportItem> reportItems(const Study& study) {
    if (!study.report.empty()) {
        return study.report;
    }
    const Question* lead = study.lead();
    if (lead == nullptr) {
        return {};
    }
    std::vector<std::string> all;
    for (const Question* q : study.family(lead->id)) {
        all.push_back(q->id);
    }
    std::vector<ReportItem> items = {{"reading", {lead->id}}, {"table", all}};
    items.push_back({"lenses", {lead->id}});
    items.push_back({"equation", {lead->id}});
    items.push_back({"checks", {lead->id}});
    items.push_back({"assumptions", {lead->id}});
    items.push_back({"methods", {lead->id}});
    items.push_back({"references", {lead->id}});
    return items;
}

std::vector<ReportBlock> buildReport(const Study& study, const AnswersById& answers,
                                     const Frame* frame, const Job& job) {
    return ReportBuilder(study, answers, frame, job).build();
}

ReportDress dressOf(const ReportStyle& style) {
    return {style.decimal, style.thousands == " " ? "\u202F" : style.thousands, style.language};
}

ReportPages reportPages(const Study& study, const AnswersById& answers, const Frame* frame,
                        const Job& job) {
    const ReportStyle& style = study.reportStyle;
    ReportPages pages;
    pages.title = style.title.empty() ? study.title : style.title;
    pages.subtitle = style.subtitle;
    pages.byline = style.byline;
    pages.language = style.language;
    pages.blocks = buildReport(study, answers, frame, job);
    dress(pages.blocks, dressOf(style));
    return pages;
}

namespace {

/// What the terms add up to: the outcome itself, or a curve of its mean.
std::string leftSide(const Answer& answer, const std::string& equation) {
    const std::string y = shownNames(answer.design->outcome);
    if (answer.fit->quantile) {
        return equation + " of " + y;
    }
    if (!answer.fit->likelihood) {
        return y;
    }
    const Family& family = *answer.fit->likelihood->family;
    const auto& levels = answer.design->levelNames;
    if (equation == "zero") {
        return family.zeros == Family::Zeros::Hurdle ? "ln odds of any " + y
                                                     : "ln odds of none ever";
    }
    if (equation == "spread" || equation == "correlation" || equation == "dispersion") {
        return equation;
    }
    if (equation == "seen") {
        return "Φ⁻¹ of P(" + y + " is seen)";
    }
    if (equation == "first") {
        return "the term that is moved";
    }
    if (equation.starts_with("to ")) {
        return "ln odds of " + equation.substr(3) + " against " + levels.front();
    }
    return family.equation.before + y + family.equation.after;
}

}  // namespace

MathRow equationRow(const Answer& answer) {
    MathRow row;
    if (!answer.fit) {
        return row;
    }
    using Piece = MathPiece::Kind;
    const auto put = [&](Piece kind, const std::string& text, const std::string& beneath = {}) {
        row.push_back({kind, text, beneath});
    };
    std::string equation;
    bool first = true;
    for (const Coefficient& c : answer.fit->coefficients) {
        if (row.empty() || c.equation != equation) {
            const bool further = !row.empty();
            if (c.equation == "cut") {
                put(Piece::Sign, ";");
                put(Piece::Name, "cuts");
            } else {
                if (further) {
                    put(Piece::Sign, ";");
                }
                const bool own = c.equation == "dispersion" || c.equation == "spread";
                put(Piece::Name, own ? c.term : leftSide(answer, c.equation));
                put(Piece::Sign, "=");
            }
            equation = c.equation;
            first = true;
        }
        const int decimals = decimalsFor(c.se);
        const bool list = c.equation == "cut";
        if (!first && !list) {
            put(Piece::Sign, c.estimate < 0.0 ? "−" : "+");
        }
        const std::string size = fixedNumber(std::abs(c.estimate), decimals, true);
        put(Piece::Number, ((first || list) && c.estimate < 0.0 ? "−" : "") + size,
            "(" + fixedNumber(c.se, decimals, true) + ")");
        const bool named =
            c.designTerm >= 0 ||
            ((c.equation == "zero" || c.equation == "seen" || c.equation == "first") &&
             c.term != "(constant)") ||
            (c.equation.starts_with("to ") && c.term != "(constant)");
        if (named) {
            put(Piece::Name, shownNames(c.term, answer.question));
        }
        first = false;
    }
    // Fits by likelihood and quantiles leave no e, and may have several equations.
    if (!answer.fit->likelihood && !answer.fit->quantile) {
        put(Piece::Sign, "+");
        put(Piece::Name, "e");
    }
    return row;
}

std::string equationText(const Answer& answer) {
    std::string text;
    for (const MathPiece& piece : equationRow(answer)) {
        text += (text.empty() || piece.text == ";" ? "" : " ") + piece.text +
                (piece.beneath.empty() ? "" : " " + piece.beneath);
    }
    return text;
}

Drawing lensDrawing(const std::vector<std::string>& names,
                    const std::vector<const Coefficient*>& effects, double width) {
    constexpr double kRow = 24.0;
    constexpr double kLetters = 10.0;
    const std::string ink = "#232733";
    const std::string soft = "#6B6F7B";
    const std::string blue = "#35527D";
    double longest = 60.0;
    for (const std::string& name : names) {
        longest = std::max(longest, wordsWidth(name, kLetters));
    }
    const double left = std::min(longest + 14.0, 0.42 * width);
    const double right = width - 64.0;
    Drawing out;
    out.width = width;
    out.height = kRow * static_cast<double>(effects.size()) + 20.0;
    double low = 0.0;
    double high = 0.0;
    for (const Coefficient* c : effects) {
        low = std::min(low, c->low);
        high = std::max(high, c->high);
    }
    const double margin = high > low ? (high - low) * 0.06 : 1.0;
    low -= margin;
    high += margin;
    const auto at = [&](double v) {
        return left + (std::clamp(v, low, high) - low) / (high - low) * (right - left);
    };
    out.line({at(0.0), 2.0}, {at(0.0), out.height - 15.0}, {.stroke = soft, .width = 0.8});
    for (std::size_t i = 0; i < effects.size(); ++i) {
        const Coefficient& c = *effects[i];
        const double middle = kRow * (static_cast<double>(i) + 0.5) + 2.0;
        std::vector<Drawing::Point> upper;
        std::vector<Drawing::Point> lower;
        for (const LensPoint& p : lensOutline(c, 40)) {
            upper.push_back({at(p.value), middle - 9.0 * p.p});
            lower.push_back({at(p.value), middle + 9.0 * p.p});
        }
        upper.insert(upper.end(), lower.rbegin(), lower.rend());
        out.path(std::move(upper), {.fill = blue, .opacity = 0.22}, true);
        const Drawing::Pen bar{.stroke = blue, .width = 1.3};
        out.line({at(c.low), middle}, {at(c.high), middle}, bar);
        for (const double end : {c.low, c.high}) {
            out.line({at(end), middle - 3.2}, {at(end), middle + 3.2}, bar);
        }
        out.line({at(c.estimate), middle - 5.6}, {at(c.estimate), middle + 5.6},
                 {.stroke = blue, .width = 2.4});
        out.words({0.0, middle + 3.4}, names[i], kLetters, ink);
        out.words({width, middle + 3.4}, fixedNumber(c.estimate, decimalsFor(c.se), true), kLetters,
                  ink, Drawing::Anchor::End);
    }
    out.words({at(0.0), out.height - 4.0}, "0", 9.0, soft, Drawing::Anchor::Middle);
    return out;
}

}  // namespace rapporto
