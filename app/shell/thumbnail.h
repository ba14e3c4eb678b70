#pragma once

#include "core/study/study.h"

#include <QImage>

namespace rapporto::app {

/// A study as a small card for folders of files: its title, its first questions as sentences, how
/// many more there are. Nothing is computed and no source is opened, so that a stranger’s study can
/// be looked at.
///
/// @param size  of the longer side, 16 to 2,048 pixels.
[[nodiscard]] QImage studyThumbnail(const Study& study, int size);

/// `rapporto --thumbnail SIZE STUDY PICTURE`, as desktops call it: 0, or 1 where the study cannot
/// be read or the picture not be written; said on stderr.
[[nodiscard]] int writeThumbnail(const QStringList& arguments);

}  // namespace rapporto::app
