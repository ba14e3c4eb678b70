// Any markup as the sheet of a spreadsheet, after a byte that chooses the kind: read or refused,
// never a crash. The archive around it is made here, as mutated archives seldom open at all.
#include "tests/fuzz/fuzz_file.h"

#include <zip.h>

#include <utility>
#include <vector>

using namespace rapporto;

namespace {

std::string zipped(const std::string& name,
                   const std::vector<std::pair<std::string, std::string>>& parts) {
    const std::string path = (fuzz::folder() / name).string();
    std::filesystem::remove(path);
    zip_t* archive = zip_open(path.c_str(), ZIP_CREATE, nullptr);
    for (const auto& [part, text] : parts) {
        zip_file_add(archive, part.c_str(), zip_source_buffer(archive, text.data(), text.size(), 0),
                     0);
    }
    zip_close(archive);
    return path;
}

}  // namespace

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
    if (size == 0) {
        return 0;
    }
    const std::string text(reinterpret_cast<const char*>(data) + 1, size - 1);
    if ((data[0] & 1U) != 0) {
        fuzz::take(zipped("t.ods", {{"content.xml", text}}));
        return 0;
    }
    const std::string target = (data[0] & 2U) != 0 ? "sharedStrings" : "worksheet";
    fuzz::take(zipped(
        "t.xlsx",
        {{"xl/workbook.xml",
          "<workbook><sheets><sheet name=\"one\" id=\"r1\"/></sheets></workbook>"},
         {"xl/_rels/workbook.xml.rels",
          "<Relationships><Relationship Id=\"r1\" Type=\"x/worksheet\" Target=\"s.xml\"/>"
          "<Relationship Id=\"r2\" Type=\"x/sharedStrings\" Target=\"t.xml\"/>"
          "<Relationship Id=\"r3\" Type=\"x/styles\" Target=\"u.xml\"/></Relationships>"},
         {"xl/s.xml", target == "worksheet" ? text
                                            : "<worksheet><sheetData><row><c t=\"s\"><v>0</v></c>"
                                              "</row><row><c t=\"s\"><v>1</v></c></row></sheetData>"
                                              "</worksheet>"},
         {"xl/t.xml", target == "worksheet" ? "<sst><si><t>a</t></si></sst>" : text},
         {"xl/u.xml", (data[0] & 4U) != 0 ? text : "<styleSheet/>"}}));
    return 0;
}
