#pragma once

#include <QWidget>

class QSplitter;

namespace rapporto::app {

/// Where the reading column stands: beside the work where there is room for it, else in a drawer
/// over it that a handle and a key open.
class SideDrawer : public QWidget {
    Q_OBJECT

  public:
    /// Puts `splitter` and the handle side by side; `side` is the splitter’s last part.
    SideDrawer(QSplitter* splitter, QWidget* side, QWidget* parent = nullptr);

    /// Under some 1,180 pixels the side would be a strip of one word a line.
    void fit(int windowWidth);

    [[nodiscard]] bool isDrawer() const { return drawer_; }

    [[nodiscard]] bool isOpen() const;

    void setOpen(bool open);

  protected:
    void resizeEvent(QResizeEvent* event) override;
    bool eventFilter(QObject* watched, QEvent* event) override;

  private:
    void place();

    QSplitter* splitter_;
    QWidget* side_;
    QWidget* handle_;
    bool drawer_ = false;
    int kind_ = -1;  ///< Of width that the parts were laid out for last.
};

}  // namespace rapporto::app
