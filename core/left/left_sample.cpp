#include "core/left/left_sample.h"

namespace rapporto {

std::string sampleQuery(const ServerTable& table, std::size_t rows) {
    std::vector<std::string> by = table.keys;
    if (by.empty()) {
        for (const ServerVariable& variable : table.variables) {
            by.push_back(variable.column);
        }
    }
    std::string key;
    for (const std::string& column : by) {
        key += "coalesce(cast(" + ServerConnection::quoted(column) + " as text), '') || '|' || ";
    }
    return "select * from " + table.from + " order by md5(" + key + "'seed') limit " +
           std::to_string(rows);
}

Study withSample(Study study, const ServerTable& table, std::size_t rows) {
    study.source.reader.query = sampleQuery(table, rows);
    study.source.reader.table.clear();
    study.source.reader.left = false;
    study.source.sha256.clear();
    study.source.seenRows = 0;
    study.source.seen.clear();
    study.title += study.title.empty() ? "A sample" : ", a sample";
    return study;
}

}  // namespace rapporto
