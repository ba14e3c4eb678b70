#include "app/stages/model/kind_pages.h"

#include "app/stages/model/correlate_pages.h"
#include "app/stages/model/trace_pages.h"

namespace rapporto::app {

const std::vector<KindPagesMaker>& kindPages() {
    static const std::vector<KindPagesMaker> kAll = {
        {"correlate",
         [](Session& session, QWidget* parent) -> KindPages* {
             return new CorrelatePages(session, parent);
         }},
        {"trace",
         [](Session& session, QWidget* parent) -> KindPages* {
             return new TracePages(session, parent);
         }},
    };
    return kAll;
}

}  // namespace rapporto::app
