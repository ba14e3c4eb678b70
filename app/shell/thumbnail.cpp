#include "app/shell/thumbnail.h"

#include "app/shell/theme.h"
#include "core/base/format.h"
#include "core/report/wording.h"

#include <QObject>
#include <QPainter>

#include <algorithm>

namespace rapporto::app {
namespace {

/// The card as it is drawn; smaller and larger ones are this, scaled.
constexpr int kWidth = 256;
constexpr int kHeight = 320;
constexpr int kMargin = 18;

/// So many lines of it, the last one cut where there is more.
void drawWords(QPainter& painter, const QRect& area, const QString& words, int lines) {
    const QFontMetrics metrics(painter.font(), painter.device());
    const QStringList all = words.simplified().split(' ');
    QString line;
    int drawn = 0;
    for (int w = 0; w < all.size() && drawn < lines; ++w) {
        const QString longer = line.isEmpty() ? all[w] : line + " " + all[w];
        if (metrics.horizontalAdvance(longer) <= area.width() || line.isEmpty()) {
            line = longer;
            if (w + 1 < all.size()) {
                continue;
            }
        } else {
            --w;  // It begins the next line.
        }
        const bool last = drawn + 1 == lines && w + 1 < all.size();
        painter.drawText(
            area.left(), area.top() + metrics.ascent() + drawn * metrics.lineSpacing(),
            metrics.elidedText(last ? line + " …" : line, Qt::ElideRight, area.width()));
        ++drawn;
        line.clear();
    }
}

}  // namespace

QImage studyThumbnail(const Study& study, int size) {
    constexpr int kLeast = 16;
    constexpr int kMost = 2048;
    const double scale = std::clamp(size, kLeast, kMost) / static_cast<double>(kHeight);
    QImage image(qRound(kWidth * scale), qRound(kHeight * scale),
                 QImage::Format_ARGB32_Premultiplied);
    image.fill(colour::kGround);
    QPainter painter(&image);
    painter.setRenderHints(QPainter::Antialiasing | QPainter::TextAntialiasing);
    painter.scale(scale, scale);
    painter.fillRect(0, 0, kWidth, 8, colour::kAccent);
    painter.setPen(QPen(colour::kHairline, 2));
    painter.drawRect(1, 1, kWidth - 2, kHeight - 2);
    painter.setPen(colour::kInk);
    painter.setFont(paperFont(26, true));
    drawWords(painter, QRect(kMargin, 26, kWidth - 2 * kMargin, 68),
              study.title.empty() ? QObject::tr("a study") : text(study.title), 2);
    int top = 104;
    constexpr std::size_t kQuestions = 3;
    for (std::size_t q = 0; q < std::min(study.questions.size(), kQuestions); ++q) {
        painter.setPen(Qt::NoPen);
        painter.setBrush(colour::kAccent);
        painter.drawEllipse(QPointF(kMargin + 4, top + 10), 4, 4);
        painter.setPen(colour::kInk);
        painter.setFont(interfaceFont(15));
        drawWords(painter, QRect(kMargin + 16, top, kWidth - 2 * kMargin - 16, 60),
                  text(questionSentence(study.questions[q])), 3);
        top += 64;
    }
    painter.setPen(colour::kSoft);
    painter.setFont(interfaceFont(13));
    const std::size_t more = study.questions.size() - std::min(study.questions.size(), kQuestions);
    const QString foot = study.questions.empty() ? QObject::tr("no question yet")
                         : more > 0 ? text("and " + plural(more, "question", "questions") + " more")
                                    : QString();
    painter.drawText(QRect(kMargin, kHeight - 28, kWidth - 2 * kMargin, 18), Qt::AlignLeft, foot);
    return image;
}

int writeThumbnail(const QStringList& arguments) {
    if (arguments.size() != 3) {
        qWarning("--thumbnail wants a size, a study and where the picture goes");
        return 1;
    }
    const auto study = readStudyFile(utf8(arguments[1]));
    if (!study) {
        qWarning("%s", study.error().text().c_str());
        return 1;
    }
    if (!studyThumbnail(*study, arguments[0].toInt()).save(arguments[2], "PNG")) {
        qWarning("%s cannot be written", qPrintable(arguments[2]));
        return 1;
    }
    return 0;
}

}  // namespace rapporto::app
