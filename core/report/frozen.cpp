#include "core/report/frozen.h"

#include <nlohmann/json.hpp>

#include <algorithm>

namespace rapporto {
namespace {

using Json = nlohmann::ordered_json;

Json cellJson(const Cell& cell) {
    Json out = {{"text", cell.text}};
    if (cell.value) {
        out["value"] = *cell.value;
    }
    if (cell.span > 1) {
        out["span"] = cell.span;
    }
    return out;
}

Cell cellOf(const Json& json) {
    Cell cell(json.at("text").get<std::string>());
    if (json.contains("value") && json.at("value").is_number()) {
        cell.value = json.at("value").get<double>();
    }
    cell.span = std::clamp(json.value("span", 1), 1, 1000);
    return cell;
}

Json shapeJson(const Drawing::Shape& shape) {
    Json points = Json::array();
    for (const Drawing::Point& p : shape.points) {
        points.push_back(p.x);
        points.push_back(p.y);
    }
    return {{"kind", static_cast<int>(shape.kind)},
            {"points", std::move(points)},
            {"closed", shape.closed},
            {"curved", shape.curved},
            {"stroke", shape.pen.stroke},
            {"width", shape.pen.width},
            {"fill", shape.pen.fill},
            {"opacity", shape.pen.opacity},
            {"dashed", shape.pen.dashed},
            {"size", shape.size},
            {"words", shape.words},
            {"anchor", static_cast<int>(shape.anchor)},
            {"bold", shape.bold}};
}

/// A colour of ours, or none: it goes into markup as it is.
std::string colourOf(const Json& json) {
    const std::string text = json.get<std::string>();
    const bool good = text.size() == 7 && text[0] == '#' &&
                      text.find_first_not_of("0123456789ABCDEFabcdef", 1) == std::string::npos;
    return good ? text : std::string();
}

/// A study may come from a stranger: a picture is no larger than a sheet of paper can be.
double onPaper(const Json& json, double least = -2000.0) {
    return std::clamp(json.get<double>(), least, 2000.0);
}

Drawing::Shape shapeOf(const Json& json) {
    Drawing::Shape shape;
    shape.kind = static_cast<Drawing::Shape::Kind>(std::clamp(json.at("kind").get<int>(), 0, 2));
    const auto numbers = json.at("points").get<std::vector<double>>();
    for (std::size_t i = 0; i + 1 < numbers.size(); i += 2) {
        shape.points.push_back({onPaper(numbers[i]), onPaper(numbers[i + 1])});
    }
    shape.closed = json.at("closed").get<bool>();
    shape.curved = json.at("curved").get<bool>() && shape.points.size() == 3;
    shape.pen.stroke = colourOf(json.at("stroke"));
    shape.pen.width = onPaper(json.at("width"), 0.0);
    shape.pen.fill = colourOf(json.at("fill"));
    shape.pen.opacity = std::clamp(json.at("opacity").get<double>(), 0.0, 1.0);
    shape.pen.dashed = json.at("dashed").get<bool>();
    shape.size = onPaper(json.at("size"), 0.0);
    shape.words = json.at("words").get<std::string>();
    shape.anchor = static_cast<Drawing::Anchor>(std::clamp(json.at("anchor").get<int>(), 0, 2));
    shape.bold = json.at("bold").get<bool>();
    return shape;
}

Json blockJson(const ReportBlock& b) {
    Json out = {{"kind", static_cast<int>(b.kind)}, {"text", b.text}};
    if (!b.part.empty()) {
        out["part"] = b.part;
    }
    if (!b.cells.empty()) {
        Json rows = Json::array();
        for (const CellRow& row : b.cells) {
            Json cells = Json::array();
            for (const Cell& cell : row) {
                cells.push_back(cellJson(cell));
            }
            rows.push_back(std::move(cells));
        }
        out["cells"] = std::move(rows);
        out["heads"] = b.heads;
        out["rules"] = b.rules;
    }
    if (!b.figure.empty()) {
        Json shapes = Json::array();
        for (const Drawing::Shape& shape : b.figure.shapes) {
            shapes.push_back(shapeJson(shape));
        }
        out["figure"] = {
            {"width", b.figure.width}, {"height", b.figure.height}, {"shapes", std::move(shapes)}};
    }
    if (!b.equation.empty()) {
        Json pieces = Json::array();
        for (const MathPiece& piece : b.equation) {
            pieces.push_back({static_cast<int>(piece.kind), piece.text, piece.beneath});
        }
        out["equation"] = std::move(pieces);
    }
    return out;
}

ReportBlock blockOf(const Json& json) {
    ReportBlock b;
    b.kind = static_cast<ReportBlock::Kind>(
        std::clamp(json.at("kind").get<int>(), 0, static_cast<int>(ReportBlock::Kind::Reference)));
    b.text = json.at("text").get<std::string>();
    b.part = json.value("part", std::string());
    if (json.contains("cells")) {
        for (const Json& row : json.at("cells")) {
            CellRow cells;
            for (const Json& cell : row) {
                cells.push_back(cellOf(cell));
            }
            if (cells.empty()) {
                cells.emplace_back();  // Every row has a first cell.
            }
            b.cells.push_back(std::move(cells));
        }
        b.heads = std::clamp<std::size_t>(json.at("heads").get<std::size_t>(), 1,
                                          std::max<std::size_t>(b.cells.size(), 1));
        b.rules = json.at("rules").get<std::vector<std::size_t>>();
    }
    if (json.contains("figure")) {
        const Json& figure = json.at("figure");
        b.figure.width = onPaper(figure.at("width"), 1.0);
        b.figure.height = onPaper(figure.at("height"), 1.0);
        for (const Json& shape : figure.at("shapes")) {
            b.figure.shapes.push_back(shapeOf(shape));
        }
        std::erase_if(b.figure.shapes,
                      [](const Drawing::Shape& shape) { return shape.points.empty(); });
    }
    if (json.contains("equation")) {
        for (const Json& piece : json.at("equation")) {
            b.equation.push_back(
                {static_cast<MathPiece::Kind>(std::clamp(piece.at(0).get<int>(), 0, 2)),
                 piece.at(1).get<std::string>(), piece.at(2).get<std::string>()});
        }
    }
    return b;
}

}  // namespace

std::string frozenBlocks(const std::vector<ReportBlock>& blocks) {
    Json out = Json::array();
    for (const ReportBlock& block : blocks) {
        out.push_back(blockJson(block));
    }
    return out.dump(-1, ' ', false, Json::error_handler_t::replace);
}

Result<std::vector<ReportBlock>> thawed(const std::string& text) {
    try {
        std::vector<ReportBlock> blocks;
        for (const Json& one : Json::parse(text)) {
            blocks.push_back(blockOf(one));
        }
        return blocks;
    } catch (const nlohmann::json::exception&) {
        return refuse(ErrorCode::BadSetting, "it is not what this program freezes", "report",
                      "Let the item follow its question again.");
    }
}

}  // namespace rapporto
