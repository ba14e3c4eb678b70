#pragma once

namespace rapporto::app {

/// From now on every picture tells those who read instead of see: its title, its axes, and a table
/// of its marks, one a row, whose rows can be selected. May be called again.
void tellPictures();

}  // namespace rapporto::app
