#include "core/left/column_program.h"

#include "core/numerics/kernels.h"

#include <fmt/format.h>

#include <algorithm>
#include <array>
#include <bit>
#include <limits>

namespace rapporto {
namespace {

using Does = ColumnProgram::Does;
using Kind = StatementNode::Kind;

constexpr double kNull = std::numeric_limits<double>::quiet_NaN();

double signOf(double x) { return x > 0.0 ? 1.0 : x < 0.0 ? -1.0 : x; }

struct NamedFunction {
    const char* name;
    ColumnProgram::Function function;
};

constexpr std::array<NamedFunction, 8> kFunctions = {{
    {"ln", [](double x) { return std::log(x); }},
    {"log10", [](double x) { return std::log10(x); }},
    {"exp", [](double x) { return std::exp(x); }},
    {"sqrt", [](double x) { return std::sqrt(x); }},
    {"abs", [](double x) { return std::abs(x); }},
    {"floor", [](double x) { return std::floor(x); }},
    {"ceiling", [](double x) { return std::ceil(x); }},
    {"sign", &signOf},
}};

/// Writes op(a, b) row by row; null where one is.
template <class Op>
void pairwise(double* __restrict__ out, const double* a, const double* b, std::size_t n, Op op) {
    for (std::size_t i = 0; i < n; ++i) {
        out[i] = op(a[i], b[i]);
    }
}

template <class Op>
void compared(double* __restrict__ out, const double* a, const double* b, std::size_t n, Op op) {
    for (std::size_t i = 0; i < n; ++i) {
        out[i] = a[i] != a[i] || b[i] != b[i] ? kNull : op(a[i], b[i]) ? 1.0 : 0.0;
    }
}

}  // namespace

tl::unexpected<Refusal> notAskedFor(const std::string& what) {
    return refuse(ErrorCode::Syntax, "the columns beside the study are not asked for " + what);
}

double TextNumbers::of(const std::string& text) {
    const auto [at, fresh] = known_.try_emplace(text, texts_.size());
    if (fresh) {
        texts_.push_back(text);
    }
    return static_cast<double>(at->second);
}

std::uint32_t ColumnProgram::put(Step step) {
    std::string name = fmt::format("{} {} {:016x} {}", static_cast<int>(step.does), step.text,
                                   std::bit_cast<std::uint64_t>(step.number),
                                   reinterpret_cast<std::uintptr_t>(step.function));
    for (const std::uint32_t one : step.of) {
        name += fmt::format(" {}", one);
    }
    for (const auto& [from, to] : step.list) {
        name += fmt::format(" {:016x}:{:016x}", std::bit_cast<std::uint64_t>(from),
                            std::bit_cast<std::uint64_t>(to));
    }
    const auto [at, fresh] = known_.try_emplace(name, static_cast<std::uint32_t>(steps_.size()));
    if (fresh) {
        steps_.push_back(std::move(step));
    }
    return at->second;
}

Result<std::uint32_t> ColumnProgram::addColumn(const StatementNode& node) {
    for (std::size_t c = 0; c < columns_.size(); ++c) {
        if (columns_[c].name == node.text && (node.of.empty() || columns_[c].of == node.of)) {
            Step step;
            step.does = Does::Column;
            step.number = static_cast<double>(c);
            step.text = columns_[c].text;
            return put(std::move(step));
        }
    }
    return notAskedFor("‘" + node.text + "’");
}

Result<std::vector<std::uint32_t>> ColumnProgram::addAll(const StatementNode& node) {
    std::vector<std::uint32_t> out;
    for (const StatementNode& child : node.children) {
        const auto step = add(child);
        if (!step) {
            return tl::make_unexpected(step.error());
        }
        out.push_back(*step);
    }
    return out;
}

/// A sum of a thousand parts is a tree as deep: its steps are put from the first part on.
Result<std::uint32_t> ColumnProgram::addBinary(const StatementNode& node) {
    std::vector<const StatementNode*> chain;
    const StatementNode* first = &node;
    for (; first->kind == Kind::Binary; first = &first->children.front()) {
        chain.push_back(first);
    }
    auto step = add(*first);
    for (auto next = chain.rbegin(); step && next != chain.rend(); ++next) {
        std::vector<std::uint32_t> of = {*step};
        for (std::size_t c = 1; c < (*next)->children.size(); ++c) {
            const auto right = add((*next)->children[c]);
            if (!right) {
                return right;
            }
            of.push_back(*right);
        }
        step = putBinary((*next)->text, std::move(of));
    }
    return step;
}

std::uint32_t ColumnProgram::putBinary(const std::string& by, std::vector<std::uint32_t> of) {
    Step step;
    const bool text = steps_[of[0]].text;
    if (by == ">" || by == ">=") {
        std::swap(of[0], of[1]);
    }
    step.of = std::move(of);
    step.does = by == "+"                ? Does::Add
                : by == "-"              ? Does::Less
                : by == "*"              ? Does::Times
                : by == "/"              ? Does::Over
                : by == "and"            ? Does::And
                : by == "or"             ? Does::Or
                : by == "="              ? Does::Equal
                : by == "<>"             ? Does::Unequal
                : by == "<" || by == ">" ? (text ? Does::TextBelow : Does::Below)
                                         : (text ? Does::TextAtMost : Does::AtMost);
    return put(std::move(step));
}

Result<std::uint32_t> ColumnProgram::addCall(const StatementNode& node) {
    auto of = addAll(node);
    if (!of) {
        return tl::make_unexpected(of.error());
    }
    Step step;
    step.of = *std::move(of);
    const std::size_t count = step.of.size();
    const std::string& name = node.text;
    if (name == "power" && count == 2) {
        // A square is a product: sums of squares are asked as such.
        const Step& power = steps_[step.of[1]];
        if (power.does == Does::Constant && power.number == 2.0) {
            step.does = Does::Times;
            step.of[1] = step.of[0];
            return put(std::move(step));
        }
        step.does = Does::Power;
        return put(std::move(step));
    }
    if (count >= 1 && (name == "least" || name == "greatest" || name == "coalesce")) {
        step.does = name == "least"      ? Does::Least
                    : name == "greatest" ? Does::Greatest
                                         : Does::Coalesce;
        step.text = steps_[step.of[0]].text;
        return put(std::move(step));
    }
    if (name == "nullif" && count == 2) {
        step.does = Does::NullIf;
        step.text = steps_[step.of[0]].text;
        return put(std::move(step));
    }
    if (name == "row_number" && count == 1) {
        step.does = Does::NthOfPart;
        return put(std::move(step));
    }
    const auto* function = std::find_if(kFunctions.begin(), kFunctions.end(),
                                        [&](const NamedFunction& f) { return name == f.name; });
    if (function == kFunctions.end() || count != 1) {
        return notAskedFor("‘" + name + "’");
    }
    step.does = Does::Function;
    step.function = function->function;
    return put(std::move(step));
}

std::uint32_t ColumnProgram::putCase(std::vector<std::uint32_t> of) {
    Step step;
    for (std::size_t k = 1; k < of.size(); k += 2) {
        step.text = step.text || steps_[of[k]].text;
    }
    step.text = step.text || steps_[of.back()].text;
    // A long list of constants of one value is looked up.
    constexpr std::size_t kLong = 9;
    const std::uint32_t key = steps_[of[0]].does == Does::Equal ? steps_[of[0]].of[0] : 0;
    bool isList = of.size() >= kLong;
    for (std::size_t k = 0; isList && k + 1 < of.size(); k += 2) {
        const Step& when = steps_[of[k]];
        isList = when.does == Does::Equal && when.of[0] == key &&
                 steps_[when.of[1]].does == Does::Constant &&
                 steps_[of[k + 1]].does == Does::Constant;
        if (isList) {
            step.list.emplace_back(steps_[when.of[1]].number, steps_[of[k + 1]].number);
        }
    }
    step.does = isList ? Does::LookUp : Does::Case;
    if (!isList) {
        step.list.clear();
        step.of = std::move(of);
        return put(std::move(step));
    }
    step.of = {key, of.back()};
    // The first of those that are named twice counts.
    const auto byKey = [](const auto& a, const auto& b) { return a.first < b.first; };
    std::stable_sort(step.list.begin(), step.list.end(), byKey);
    return put(std::move(step));
}

Result<std::uint32_t> ColumnProgram::add(const StatementNode& node) {
    Step step;
    switch (node.kind) {
        case Kind::Number:
        case Kind::Truth:
            step.number = node.number;
            return put(std::move(step));
        case Kind::Null:
            step.number = kNull;
            return put(std::move(step));
        case Kind::Text:
            step.number = texts_->of(node.text);
            step.text = true;
            return put(std::move(step));
        case Kind::Column:
            return addColumn(node);
        case Kind::Binary:
            return addBinary(node);
        case Kind::Call:
            return addCall(node);
        case Kind::ToNumber:
        case Kind::ToText:  // Of what groups rows: a number is told as a text anyway.
            return add(node.children.front());
        case Kind::Star:
            return notAskedFor("all columns within a value");
        case Kind::Minus:
        case Kind::Not:
        case Kind::IsNull:
        case Kind::Case:
            break;
    }
    auto of = addAll(node);
    if (!of) {
        return tl::make_unexpected(of.error());
    }
    if (node.kind == Kind::Case) {
        return putCase(*std::move(of));
    }
    step.of = *std::move(of);
    step.does = node.kind == Kind::Minus ? Does::Negative
                : node.kind == Kind::Not ? Does::Not
                                         : Does::IsNull;
    return put(std::move(step));
}

void ColumnValues::begin(BlockOfRows& block) {
    block_ = &block;
    ++turn_;
}

const double* ColumnValues::of(std::uint32_t at) {
    const ColumnProgram::Step& step = program_[at];
    if (step.does == Does::Column) {
        return block_->column(static_cast<std::size_t>(step.number));
    }
    std::vector<double>& out = values_[at];
    if (ready_[at] != turn_) {
        // Room alone is asked for once: blocks are of one size but for the last one.
        if (out.size() < block_->rows()) {
            out.resize(block_->rows());
        }
        work(step, out.data());
        ready_[at] = turn_;
    }
    return out.data();
}

void ColumnValues::work(const ColumnProgram::Step& step, double* out) {
    const std::size_t n = block_->rows();
    const TextNumbers& texts = program_.texts();
    const double* a = step.of.empty() ? nullptr : of(step.of[0]);
    const double* b = step.of.size() < 2 ? nullptr : of(step.of[1]);
    switch (step.does) {
        case Does::Constant:
            return std::fill(out, out + n, step.number), void();
        case Does::Add:
            return pairwise(out, a, b, n, [](double x, double y) { return x + y; });
        case Does::Less:
            return pairwise(out, a, b, n, [](double x, double y) { return x - y; });
        case Does::Times:
            return pairwise(out, a, b, n, [](double x, double y) { return x * y; });
        case Does::Over:
            return pairwise(out, a, b, n, [](double x, double y) { return x / y; });
        case Does::Negative:
            return pairwise(out, a, a, n, [](double x, double) { return -x; });
        case Does::Equal:
            return compared(out, a, b, n, [](double x, double y) { return x == y; });
        case Does::Unequal:
            return compared(out, a, b, n, [](double x, double y) { return x != y; });
        case Does::Below:
            return compared(out, a, b, n, [](double x, double y) { return x < y; });
        case Does::AtMost:
            return compared(out, a, b, n, [](double x, double y) { return x <= y; });
        case Does::TextBelow:
            return compared(out, a, b, n, [&](double x, double y) { return texts[x] < texts[y]; });
        case Does::TextAtMost:
            return compared(out, a, b, n, [&](double x, double y) { return texts[x] <= texts[y]; });
        case Does::Not:
            return pairwise(out, a, a, n, [](double x, double) { return 1.0 - x; });
        case Does::IsNull:
            return pairwise(out, a, a, n, [](double x, double) { return x != x ? 1.0 : 0.0; });
        case Does::NullIf:
            return pairwise(out, a, b, n, [](double x, double y) { return x == y ? kNull : x; });
        case Does::Power:
            return pairwise(out, a, b, n, [](double x, double y) {
                return x != x || y != y ? kNull : std::pow(x, y);
            });
        case Does::Function:
            return pairwise(out, a, a, n, [f = step.function](double x, double) { return f(x); });
        case Does::And:
        case Does::Or:
        case Does::Least:
        case Does::Greatest:
        case Does::Coalesce:
        case Does::Case:
        case Does::LookUp:
            return choose(step, out);
        case Does::NthOfPart:
            return count(step, out);
        case Does::Column:
            break;
    }
}

void ColumnValues::choose(const ColumnProgram::Step& step, double* out) {
    const std::size_t n = block_->rows();
    if (step.does == Does::LookUp) {
        const double* key = of(step.of[0]);
        const double* other = of(step.of[1]);
        for (std::size_t i = 0; i < n; ++i) {
            const auto at = std::lower_bound(
                step.list.begin(), step.list.end(), key[i],
                [](const std::pair<double, double>& one, double x) { return one.first < x; });
            out[i] = at != step.list.end() && at->first == key[i] ? at->second : other[i];
        }
        return;
    }
    if (step.does == Does::Case) {
        const double* other = of(step.of.back());
        std::copy(other, other + n, out);
        // The first condition that holds decides: from the last one on.
        for (std::size_t k = step.of.size() - 1; k >= 2; k -= 2) {
            const double* when = of(step.of[k - 2]);
            const double* then = of(step.of[k - 1]);
            for (std::size_t i = 0; i < n; ++i) {
                out[i] = when[i] == 1.0 ? then[i] : out[i];
            }
        }
        return;
    }
    const double* first = of(step.of[0]);
    std::copy(first, first + n, out);
    for (std::size_t k = 1; k < step.of.size(); ++k) {
        const double* next = of(step.of[k]);
        for (std::size_t i = 0; i < n; ++i) {
            const double x = out[i];
            const double y = next[i];
            switch (step.does) {
                case Does::And:
                    out[i] = x == 0.0 || y == 0.0 ? 0.0 : x * y;
                    break;
                case Does::Or:
                    out[i] = x == 1.0 || y == 1.0 ? 1.0 : x + y;
                    break;
                case Does::Least:
                    out[i] = x != x || y < x ? y : x;
                    break;
                case Does::Greatest:
                    out[i] = x != x || y > x ? y : x;
                    break;
                default:
                    out[i] = x != x ? y : x;
                    break;
            }
        }
    }
}

void ColumnValues::count(const ColumnProgram::Step& step, double* out) {
    const double* part = of(step.of[0]);
    auto& rows = seen_[step.of[0]];
    for (std::size_t i = 0; i < block_->rows(); ++i) {
        // What lacks it is a part of its own.
        out[i] = rows[part[i] != part[i] ? -0.5 : part[i]] += 1.0;
    }
}

}  // namespace rapporto
