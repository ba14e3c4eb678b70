#include "core/data/column.h"

#include "core/base/format.h"

#include <fmt/format.h>

#include <chrono>
#include <cmath>
#include <utility>

namespace rapporto {

RAPPORTO_COMPILED_HERE(Variable);

Column Column::ofNumbers(std::string name, std::vector<double> cells) {
    const auto owner = std::make_shared<const std::vector<double>>(std::move(cells));
    return ofNumbers(std::move(name), {owner, owner->data()}, owner->size());
}

Column Column::ofNumbers(std::string name, std::shared_ptr<const double[]> cells,
                         std::size_t size) {
    Column column;
    column.name_ = std::move(name);
    column.size_ = size;
    column.cells_ = std::move(cells);
    return column;
}

Column Column::ofTexts(std::string name, std::vector<std::int32_t> codes,
                       std::vector<std::string> texts) {
    const auto owner = std::make_shared<const std::vector<std::int32_t>>(std::move(codes));
    return ofTexts(std::move(name), {owner, owner->data()}, owner->size(), std::move(texts));
}

Column Column::ofTexts(std::string name, std::shared_ptr<const std::int32_t[]> codes,
                       std::size_t size, std::vector<std::string> texts) {
    Column column;
    column.name_ = std::move(name);
    column.size_ = size;
    column.codes_ = std::move(codes);
    column.texts_ = std::make_shared<const std::vector<std::string>>(std::move(texts));
    return column;
}

std::span<const double> Column::numbers() const {
    return isText() ? std::span<const double>() : std::span<const double>(cells_.get(), size_);
}

std::span<const std::int32_t> Column::codes() const {
    return isText() ? std::span<const std::int32_t>(codes_.get(), size_)
                    : std::span<const std::int32_t>();
}

const std::vector<std::string>& Column::texts() const {
    static const std::vector<std::string> kNone;
    return texts_ ? *texts_ : kNone;
}

bool Column::isMissing(std::size_t row) const {
    return isText() ? codes_[static_cast<std::ptrdiff_t>(row)] < 0
                    : std::isnan(cells_[static_cast<std::ptrdiff_t>(row)]);
}

std::size_t Column::countMissing() const {
    std::size_t missing = 0;
    for (const double x : numbers()) {
        missing += std::isnan(x) ? 1U : 0U;
    }
    for (const std::int32_t code : codes()) {
        missing += code < 0 ? 1U : 0U;
    }
    return missing;
}

Column Column::renamed(std::string name) const {
    Column copy = *this;
    copy.name_ = std::move(name);
    return copy;
}

bool Column::sharesCellsWith(const Column& other) const {
    return cells_ == other.cells_ && codes_ == other.codes_;
}

std::string measureName(Measure measure) {
    switch (measure) {
        case Measure::Quantity:
            return "quantity";
        case Measure::Count:
            return "count";
        case Measure::YesNo:
            return "yes-no";
        case Measure::Groups:
            return "groups";
        case Measure::OrderedGroups:
            return "ordered-groups";
        case Measure::Date:
            return "date";
        case Measure::Text:
            return "text";
    }
    return "quantity";
}

bool isGrouping(Measure measure) {
    return measure == Measure::Groups || measure == Measure::OrderedGroups ||
           measure == Measure::Text;
}

std::string keyText(const Key& key) {
    return std::holds_alternative<double>(key) ? exactNumber(std::get<double>(key))
                                               : std::get<std::string>(key);
}

int Table::find(const std::string& name) const {
    for (std::size_t i = 0; i < columns.size(); ++i) {
        if (columns[i].name() == name) {
            return static_cast<int>(i);
        }
    }
    return -1;
}

std::string dateText(double days) {
    using namespace std::chrono;
    const year_month_day date{sys_days{std::chrono::days{static_cast<int>(std::floor(days))}}};
    return fmt::format("{:04}-{:02}-{:02}", static_cast<int>(date.year()),
                       static_cast<unsigned>(date.month()), static_cast<unsigned>(date.day()));
}

std::string cellText(const Column& column, const Variable& variable, std::size_t row) {
    if (column.isMissing(row)) {
        return {};
    }
    if (column.isText()) {
        const std::string& text = column.texts()[static_cast<std::size_t>(column.codes()[row])];
        for (const Level& level : variable.levels) {
            if (!level.label.empty() && keyText(level.value) == text) {
                return level.label;
            }
        }
        return text;
    }
    const double value = column.numbers()[row];
    if (variable.measure == Measure::Date) {
        return dateText(value);
    }
    for (const Level& level : variable.levels) {
        if (!level.label.empty() && level.value == Key(value)) {
            return level.label;
        }
    }
    // Four digits stand together: most of them are years.
    return value == std::floor(value) && std::abs(value) < 10000.0
               ? (value < 0.0 ? "−" : "") + fmt::format("{:.0f}", std::abs(value))
               : shortNumber(value, 9);
}

}  // namespace rapporto
