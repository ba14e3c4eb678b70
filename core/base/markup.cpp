#include "core/base/markup.h"

namespace rapporto {

std::string escapedText(const std::string& text) {
    std::string out;
    out.reserve(text.size());
    for (const char c : text) {
        switch (c) {
            case '&':
                out += "&amp;";
                break;
            case '<':
                out += "&lt;";
                break;
            case '>':
                out += "&gt;";
                break;
            case '"':
                out += "&quot;";
                break;
            default:
                out += static_cast<unsigned char>(c) < 0x20U && c != '\n' && c != '\t' ? ' ' : c;
        }
    }
    return out;
}

namespace {

/// Where the next mark stands that opens (or closes) bold: stars of a level of p are none. One that
/// opens stands before a letter, one that closes behind one.
std::size_t nextMark(const std::string& text, std::size_t at, bool opens) {
    for (at = text.find("**", at); at != std::string::npos; at = text.find("**", at + 1)) {
        const char beside =
            opens ? (at + 2 < text.size() ? text[at + 2] : ' ') : (at > 0 ? text[at - 1] : ' ');
        if (beside != ' ' && beside != '*') {
            return at;
        }
    }
    return at;
}

}  // namespace

std::vector<TextRun> textRuns(const std::string& marked) {
    std::vector<TextRun> runs;
    std::size_t at = 0;
    while (at < marked.size()) {
        const std::size_t open = nextMark(marked, at, true);
        const std::size_t close =
            open == std::string::npos ? open : nextMark(marked, open + 2, false);
        if (close == std::string::npos) {
            runs.push_back({marked.substr(at), false});
            break;
        }
        if (open > at) {
            runs.push_back({marked.substr(at, open - at), false});
        }
        runs.push_back({marked.substr(open + 2, close - open - 2), true});
        at = close + 2;
    }
    return runs;
}

std::string htmlText(const std::string& marked) {
    std::string out;
    for (const TextRun& run : textRuns(marked)) {
        out += run.bold ? "<b>" + escapedText(run.text) + "</b>" : escapedText(run.text);
    }
    return out;
}

std::string withoutMarks(const std::string& marked) {
    std::string out;
    for (const TextRun& run : textRuns(marked)) {
        out += run.text;
    }
    return out;
}

std::string replacedAll(std::string text, const std::string& from, const std::string& to) {
    for (std::size_t at = text.find(from); at != std::string::npos;
         at = text.find(from, at + to.size())) {
        text.replace(at, from.size(), to);
    }
    return text;
}

}  // namespace rapporto
