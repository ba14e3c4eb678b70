#include "app/stages/explore/explore_stage.h"

#include "app/shell/finder.h"
#include "app/shell/flow_layout.h"
#include "app/shell/theme.h"
#include "core/base/format.h"
#include "core/describe/ledger.h"
#include "core/describe/row_names.h"
#include "core/left/left_picture.h"
#include "core/picture/desk_rows.h"
#include "core/picture/line_fit.h"
#include "core/report/wording.h"

#include <QDragEnterEvent>
#include <QGridLayout>
#include <QLabel>
#include <QMimeData>
#include <QPushButton>
#include <QSlider>
#include <QStandardItemModel>
#include <QVBoxLayout>

#include <algorithm>
#include <cmath>

namespace rapporto::app {
namespace {

constexpr std::size_t kMostPictures = 6;

/// What stands beside a lone picture: of one variable its other pictures, of two each one’s own;
/// nothing of a summary, and nothing where each would have a database read its table again.
std::vector<PictureSpec> companionsOf(const Frame& frame, const PictureSpec& spec,
                                      const std::string& kind) {
    std::vector<PictureSpec> out;
    const auto* drawn = findPictureKind(kind);
    if (frame.moments() != nullptr || drawn == nullptr || kind == "table" || kind == "matrix" ||
        kind == "mosaic" || kind == "autocorrelation" || kind == "over-time" ||
        spec.of.size() > 3) {
        return out;
    }
    const auto add = [&](const std::string& id, std::vector<std::string> of) {
        PictureSpec one;
        one.kind = id;
        one.of = std::move(of);
        one.weighted = spec.weighted;
        out.push_back(std::move(one));
    };
    if (spec.of.size() == 1) {
        for (const PictureKind* other : fittingPictures(frame, spec.of)) {
            const std::string id = other->id;
            if (id != kind && id != "table" && id != "autocorrelation" && out.size() < 2) {
                add(id, spec.of);
            }
        }
        return out;
    }
    for (std::size_t k = 0; k < 2; ++k) {
        add({}, {spec.of[k]});
    }
    return out;
}

void emptyLayout(QLayout* layout) {
    while (QLayoutItem* item = layout->takeAt(0)) {
        if (item->widget() != nullptr) {
            item->widget()->hide();
            item->widget()->setObjectName({});
            item->widget()->deleteLater();
        }
        delete item;
    }
}

/// Selects the rows in the sample for which a typed condition holds.
void selectWhere(Session& session, const QString& condition) {
    const auto frame = session.frame();
    if (!frame || condition.trimmed().isEmpty()) {
        session.selectRows({});
        return;
    }
    const auto rows = rowsWhere(*frame, utf8(condition));
    if (!rows) {
        emit session.refused(numbered(rows.error().text()));
        return;
    }
    RowSet selected;
    for (const std::size_t row : *rows) {
        if (frame->states()[row] == RowState::In) {
            selected.insert(row);
        }
    }
    session.selectRows(selected);
    if (selected.empty()) {
        emit session.told(QObject::tr("No row in the sample has that."));
    }
}

bool hasLogAxis(const Frame& frame, const std::string& name) {
    return frame.column(name) != nullptr && !isGroupsOnDesk(frame, name) &&
           frame.variable(name)->measure != Measure::Date;
}

QLabel* softLabel(const QString& words, QWidget* parent) {
    auto* label = new QLabel(words, parent);
    dress(label, "color:{soft}");
    return label;
}

}  // namespace

ExploreStage::ExploreStage(Session& session, QWidget* parent)
    : Stage(session, parent),
      deskLine_(new FlowLayout),
      wordLine_(new FlowLayout),
      tiles_(new QGridLayout),
      beside_(new QGridLayout),
      tilesHost_(new QWidget(this)),
      besideHost_(new QWidget(this)),
      finder_(new Finder(this)),
      drawing_([this](const Drawn& drawn) { showDrawn(drawn); }) {
    auto* layout = new QVBoxLayout(this);
    layout->setContentsMargins(22, 16, 20, 12);
    layout->setSpacing(8);
    for (FlowLayout* line : {deskLine_, wordLine_}) {
        auto* host = new QWidget(this);
        host->setLayout(line);
        line->setContentsMargins(0, 0, 0, 0);
        layout->addWidget(host);
    }
    auto* pictures = new QHBoxLayout;
    pictures->setSpacing(14);
    tiles_->setSpacing(8);
    tiles_->setContentsMargins(0, 0, 0, 0);
    tilesHost_->setLayout(tiles_);
    pictures->addWidget(tilesHost_, 5);
    beside_->setContentsMargins(0, 0, 0, 0);
    besideHost_->setLayout(beside_);
    pictures->addWidget(besideHost_, 3);
    layout->addLayout(pictures, 1);
    setAcceptDrops(true);
    connect(&session_, &Session::selectionChanged, this, [this] {
        brush(session_.selectedRows(), nullptr);
        if (isVisible()) {
            emit readingChanged();
        }
    });
}

ExploreStage::~ExploreStage() { asking_.stop(); }

Desk ExploreStage::shownDesk() const {
    Desk desk = session_.study().desk;
    if (!desk.pictures.empty()) {
        return desk;
    }
    // What the question is about is what one wants to see first.
    PictureSpec first;
    const auto frame = session_.frame();
    if (const Question* q = session_.question(); q != nullptr && q->kind == "explain" && frame) {
        const std::string other = q->terms.size() > 1 ? q->terms[1].parts.front()
                                  : q->terms.empty()  ? std::string()
                                                      : q->terms.front().parts.front();
        for (const auto& expression : {q->outcome, other}) {
            if (frame->column(expression) != nullptr) {
                first.of.push_back(expression);
            }
        }
    }
    desk.pictures.push_back(std::move(first));
    return desk;
}

PictureSpec ExploreStage::inHand() const {
    const Desk desk = shownDesk();
    PictureSpec spec = desk.pictures[std::min(hand_, desk.pictures.size() - 1)];
    // A variable that is no more (taken out, of another file) is not to be seen.
    if (const auto frame = session_.frame()) {
        std::erase_if(spec.of, [&](const auto& name) { return frame->column(name) == nullptr; });
    }
    return spec;
}

void ExploreStage::changeDesk(const Desk& desk) {
    if (session_.study().desk != desk) {
        session_.setDesk(desk);
    }
    refresh();
}

const DrawnPicture* ExploreStage::drawnInHand() const {
    // No number stands under other names than its own.
    return drawn_ && hand_ < drawn_->pictures.size() && drawn_->specs == shownDesk().pictures
               ? drawn_->pictures[hand_].get()
               : nullptr;
}

void ExploreStage::change(const PictureSpec& spec) {
    Desk desk = shownDesk();
    desk.pictures[std::min(hand_, desk.pictures.size() - 1)] = spec;
    changeDesk(desk);
}

void ExploreStage::putOnDesk(const std::string& name, bool add) {
    constexpr std::size_t kMostByClick = 2;
    const auto frame = session_.frame();
    PictureSpec spec = inHand();
    std::erase(spec.of, name);
    spec.of.push_back(name);
    if (!add && spec.of.size() > kMostByClick) {
        spec.of.erase(spec.of.begin(), spec.of.end() - kMostByClick);
    }
    if (frame) {
        // What is counted comes after what is measured, in whatever order they were put.
        std::stable_partition(spec.of.begin(), spec.of.end(), [&](const std::string& one) {
            return frame->column(one) != nullptr && !isGroupsOnDesk(*frame, one);
        });
    }
    // Other variables, another picture: the kind that fits them best, in plain axes.
    PictureSpec fresh;
    fresh.of = spec.of;
    fresh.weighted = spec.weighted;
    fresh.raw = spec.raw;
    change(fresh);
}

void ExploreStage::addPicture() {
    Desk desk = shownDesk();
    if (desk.pictures.size() < kMostPictures) {
        desk.pictures.emplace_back();
        hand_ = desk.pictures.size() - 1;
        changeDesk(desk);
    }
}

void ExploreStage::closePicture(std::size_t k) {
    Desk desk = shownDesk();
    if (k < desk.pictures.size()) {
        desk.pictures.erase(desk.pictures.begin() + static_cast<std::ptrdiff_t>(k));
        hand_ = hand_ > k || hand_ == desk.pictures.size() ? hand_ - (hand_ > 0 ? 1 : 0) : hand_;
        changeDesk(desk);
    }
}

void ExploreStage::refresh() {
    hand_ = std::min(hand_, shownDesk().pictures.size() - 1);
    rebuildDeskLine();
    rebuildWords();
    draw();
    // What the question in focus holds down shows in every picture of its rows.
    const auto held = heldRows(session_.answer());
    for (const auto* tiles : {&pictures_, &companions_}) {
        for (PictureTile* tile : *tiles) {
            tile->showHeld(held);
        }
    }
    emit readingChanged();
}

void ExploreStage::rebuildDeskLine() {
    const Desk desk = shownDesk();
    const PictureSpec spec = inHand();
    QString signature = QString::number(desk.pictures.size());
    for (const std::string& name : spec.of) {
        signature += "\n" + text(name);
    }
    if (signature == lineSignature_) {
        return;
    }
    lineSignature_ = signature;
    emptyLayout(deskLine_);
    QWidget* host = deskLine_->parentWidget();
    const auto put = [&](QWidget* widget) {
        deskLine_->addWidget(widget);
        widget->show();
    };
    auto* word = softLabel(tr("On the desk"), host);
    word->setFont(paperFont(19, true));
    put(word);
    for (const auto& name : spec.of) {
        auto* chip = new QPushButton(text(name) + "  ×", host);
        chip->setProperty("chip", true);
        chip->setToolTip(tr("Take it off the desk"));
        chip->setObjectName("desk:" + text(name));
        connect(chip, &QPushButton::clicked, this, [this, name] {
            PictureSpec next = inHand();
            std::erase(next.of, name);
            next.kind.clear();
            next.title.clear();
            change(next);
        });
        put(chip);
    }
    auto* more = new QPushButton(tr("+ variable"), host);
    more->setObjectName("desk:add");
    more->setToolTip(tr("Or click one at the left; with Ctrl it is added to those that are here"));
    connect(more, &QPushButton::clicked, this, &ExploreStage::askForVariable);
    put(more);
    if (spec.of.size() == 2) {
        auto* swap = new QPushButton(tr("swap axes"), host);
        connect(swap, &QPushButton::clicked, this, [this] {
            PictureSpec next = inHand();
            std::swap(next.of[0], next.of[1]);
            std::swap(next.logX, next.logY);
            next.title.clear();
            change(next);
        });
        put(swap);
    }
    if (!spec.of.empty() && desk.pictures.size() < kMostPictures) {
        auto* another = new QPushButton(tr("+ picture"), host);
        another->setObjectName("desk:another");
        another->setToolTip(tr("Keep this one and begin another beside it"));
        connect(another, &QPushButton::clicked, this, &ExploreStage::addPicture);
        put(another);
    }
}

void ExploreStage::addToggle(const QString& name, const QString& id, bool PictureSpec::*flag,
                             const PictureSpec& spec, const QString& why) {
    auto* word = new QPushButton(name, wordLine_->parentWidget());
    word->setProperty("tab", true);
    word->setCheckable(true);
    word->setChecked(spec.*flag);
    word->setToolTip(why);
    word->setObjectName("option:" + id);
    connect(word, &QPushButton::clicked, this, [this, flag](bool on) {
        PictureSpec next = inHand();
        next.*flag = on;
        change(next);
    });
    wordLine_->addWidget(word);
    word->show();
}

void ExploreStage::rebuildWords() {
    const auto frame = session_.frame();
    const PictureSpec spec = inHand();
    const auto fitting =
        frame ? fittingPictures(*frame, spec.of) : std::vector<const PictureKind*>();
    const PictureKind* shown = fitting.empty() ? nullptr : kindToDraw(*frame, spec);
    QString signature = shown == nullptr ? QString() : QString(shown->id);
    for (const PictureKind* kind : fitting) {
        signature += QString(" ") + kind->id;
    }
    const bool surveyed =
        session_.study().survey.isWeighted() && frame && frame->moments() == nullptr;
    signature += QString("|%1%2%3%4%5%6%7%8%9")
                     .arg(spec.logX)
                     .arg(spec.logY)
                     .arg(spec.smooth)
                     .arg(spec.line)
                     .arg(spec.square)
                     .arg(spec.bands)
                     .arg(spec.robust)
                     .arg(spec.weighted)
                     .arg(surveyed);
    if (signature == wordSignature_) {
        return;
    }
    wordSignature_ = signature;
    emptyLayout(wordLine_);
    if (shown == nullptr) {
        return;
    }
    QWidget* host = wordLine_->parentWidget();
    for (const PictureKind* kind : fitting) {
        auto* word = new QPushButton(tr(kind->name), host);
        word->setProperty("tab", true);
        word->setCheckable(true);
        word->setChecked(kind == shown);
        word->setObjectName("picture:" + QString(kind->name));
        connect(word, &QPushButton::clicked, this, [this, id = std::string(kind->id)] {
            PictureSpec next = inHand();
            next.kind = id;
            wordSignature_.clear();
            change(next);
        });
        wordLine_->addWidget(word);
        word->show();
    }
    if ((shown->options & (kLogX | kLogY | kSmoothing)) != 0 ||
        ((shown->options & kWeights) != 0 && surveyed)) {
        auto* dot = softLabel("·", host);
        wordLine_->addWidget(dot);
        dot->show();
    }
    if ((shown->options & kSmoothing) != 0) {
        addToggle(tr("line"), "line", &PictureSpec::line, spec, tr("The least squares line"));
        addToggle(tr("square"), "square", &PictureSpec::square, spec, tr("A parabola beside it"));
        addToggle(tr("bands"), "bands", &PictureSpec::bands, spec,
                  tr("Where the mean lies, and where a single row does"));
        addToggle(tr("smooth"), "smooth", &PictureSpec::smooth, spec,
                  tr("A line through each neighbourhood: shows whether a straight one is fair"));
        if (spec.smooth) {
            addToggle(tr("robust"), "robust", &PictureSpec::robust, spec,
                      tr("The smooth holds odd points down"));
            auto* span = new QSlider(Qt::Horizontal, host);
            span->setObjectName("option:span");
            span->setRange(10, 100);
            span->setValue(qRound(spec.span * 100.0));
            span->setFixedWidth(90);
            span->setToolTip(tr("How wide a neighbourhood the smooth looks at"));
            span->setAccessibleName(tr("Span of the smooth, per cent of the points"));
            connect(span, &QSlider::valueChanged, this, [this](int percent) {
                PictureSpec next = inHand();
                next.span = percent / 100.0;
                change(next);
            });
            wordLine_->addWidget(span);
            span->show();
        }
    }
    if ((shown->options & kLogX) != 0 && spec.of.size() >= 1 &&
        hasLogAxis(*frame, spec.of[std::min<std::size_t>(1, spec.of.size() - 1)])) {
        addToggle(spec.of.size() == 1 ? tr("log axis") : tr("log x"), "logX", &PictureSpec::logX,
                  spec, tr("A logarithmic axis; values at or below zero have no place on it"));
    }
    if ((shown->options & kLogY) != 0 && hasLogAxis(*frame, spec.of[0])) {
        addToggle(tr("log y"), "logY", &PictureSpec::logY, spec,
                  tr("A logarithmic axis; values at or below zero have no place on it"));
    }
    if ((shown->options & kWeights) != 0 && surveyed) {
        addToggle(tr("weighted"), "weighted", &PictureSpec::weighted, spec,
                  tr("Count rows by the survey’s weight, and intervals by its design"));
    }
}

void ExploreStage::draw() {
    const auto frame = session_.frame();
    const Desk desk = shownDesk();
    if (!frame) {
        drawing_.cancel();
        asking_.stop();
        askedFrame_.reset();
        drawn_.reset();
        placeTiles(1, 0);
        pictures_[0]->showNothing(tr("There are no data yet."));
        return;
    }
    if (frame == askedFrame_ && desk.pictures == askedSpecs_ &&
        session_.study().survey == askedSurvey_ && session_.study().alpha == askedAlpha_) {
        for (std::size_t k = 0; k < pictures_.size(); ++k) {
            pictures_[k]->setInHand(k == hand_, pictures_.size() > 1);
        }
        return;
    }
    askedFrame_ = frame;
    askedSpecs_ = desk.pictures;
    askedSurvey_ = session_.study().survey;
    askedAlpha_ = session_.study().alpha;
    const bool left = frame->left() != nullptr;
    const bool atOnce = !left && frame->rows() <= kRowsAtOnce;
    if (!atOnce) {
        for (const auto* tiles : {&pictures_, &companions_}) {
            for (PictureTile* tile : *tiles) {
                tile->setStale(true);
            }
        }
    }
    if (left && !drawn_) {
        placeTiles(1, 0);
        pictures_[0]->showNothing(tr("The database is being asked…"));
    }
    // What a database is still asked for is not wanted any more.
    asking_.stop();
    asking_ = Job();
    drawing_.ask(
        [frame, specs = desk.pictures, study = session_.study(), job = asking_] {
            Drawn out{frame, specs, {}, {}, false};
            for (const PictureSpec& spec : specs) {
                auto made = pictureOf(study, *frame, spec, job);
                out.refused = out.refused || !made;
                if (!made) {
                    DrawnPicture none;
                    none.spec = spec;
                    none.nothing = made.error().text();
                    made = std::move(none);
                }
                out.pictures.push_back(std::make_shared<const DrawnPicture>(*std::move(made)));
            }
            if (specs.size() == 1) {
                const DrawnPicture& main = *out.pictures.front();
                for (const PictureSpec& one : companionsOf(*frame, main.spec, main.spec.kind)) {
                    out.companions.push_back(std::make_shared<const DrawnPicture>(
                        drawPicture(*frame, one, study.survey, study.alpha)));
                }
            }
            return out;
        },
        atOnce);
}

void ExploreStage::placeTiles(std::size_t pictures, std::size_t companions) {
    const auto resize = [this](std::vector<PictureTile*>& tiles, std::size_t wanted) {
        while (tiles.size() > wanted) {
            tiles.back()->deleteLater();
            tiles.back()->hide();
            tiles.pop_back();
        }
        while (tiles.size() < wanted) {
            auto* tile = new PictureTile(this);
            connect(tile, &PictureTile::rowsSelected, &session_, &Session::selectRows);
            connect(tile, &PictureTile::rowsBrushed, this,
                    [this, tile](const RowSet& rows) { brush(rows, tile); });
            connect(tile, &PictureTile::opened, this, [this](const QStringList& names) {
                Desk desk = shownDesk();
                PictureSpec pair;
                for (const QString& name : names) {
                    pair.of.push_back(utf8(name));
                }
                if (desk.pictures.size() < kMostPictures) {
                    desk.pictures.push_back(pair);
                    hand_ = desk.pictures.size() - 1;
                    changeDesk(desk);
                }
            });
            tile->showSelection(session_.selectedRows());
            tiles.push_back(tile);
        }
    };
    const std::size_t before = pictures_.size();
    resize(pictures_, pictures);
    resize(companions_, companions);
    for (std::size_t k = before; k < pictures_.size(); ++k) {
        connect(pictures_[k], &PictureTile::taken, this, [this, k] {
            if (hand_ != k && k < pictures_.size()) {
                hand_ = k;
                refresh();
            }
        });
        connect(pictures_[k], &PictureTile::closed, this, [this, k] { closePicture(k); });
        connect(pictures_[k], &PictureTile::titleEdited, this, [this, k](const QString& title) {
            Desk desk = shownDesk();
            if (k < desk.pictures.size()) {
                desk.pictures[k].title = utf8(title.trimmed());
                changeDesk(desk);
            }
        });
    }
    const std::size_t columns = pictures <= 1 ? 1 : pictures <= 4 ? 2 : 3;
    for (std::size_t k = 0; k < pictures_.size(); ++k) {
        tiles_->addWidget(pictures_[k], static_cast<int>(k / columns),
                          static_cast<int>(k % columns));
        pictures_[k]->show();
    }
    for (std::size_t k = 0; k < companions_.size(); ++k) {
        beside_->addWidget(companions_[k], static_cast<int>(k), 0);
        companions_[k]->show();
    }
    besideHost_->setVisible(companions > 0);
}

void ExploreStage::showDrawn(const Drawn& drawn) {
    // The same pictures over other rows: their curves stay, faint, beside the new ones.
    const bool moved = drawn_ && drawn_->specs == drawn.specs && drawn_->frame != drawn.frame &&
                       drawn_->frame->rows() == drawn.frame->rows() &&
                       drawn_->frame->states() != drawn.frame->states();
    const std::optional<Drawn> before = std::exchange(drawn_, drawn);
    placeTiles(drawn.pictures.size(), drawn.companions.size());
    const auto namer = [frame = drawn.frame](std::size_t row) {
        return text(rowName(*frame, row));
    };
    for (auto* tiles : {&pictures_, &companions_}) {
        const auto& made = tiles == &pictures_ ? drawn.pictures : drawn.companions;
        for (std::size_t k = 0; k < made.size(); ++k) {
            PictureTile& tile = *(*tiles)[k];
            tile.setRowNamer(namer);
            tile.showPicture(made[k],
                             moved && tiles == &pictures_ ? before->pictures[k].get() : nullptr);
        }
    }
    for (std::size_t k = 0; k < pictures_.size(); ++k) {
        pictures_[k]->setInHand(k == hand_, pictures_.size() > 1);
    }
    emit readingChanged();
}

void ExploreStage::brush(const RowSet& rows, const QObject* from) {
    for (const auto* tiles : {&pictures_, &companions_}) {
        for (PictureTile* tile : *tiles) {
            if (tile != from) {
                tile->showSelection(rows);
            }
        }
    }
}

void ExploreStage::askForVariable() {
    const auto frame = session_.frame();
    if (!frame) {
        return;
    }
    std::vector<FinderEntry> entries;
    for (const Variable& v : frame->table().variables) {
        entries.push_back(
            {text(v.name), text(v.label), [this, name = v.name] { putOnDesk(name, true); }});
    }
    QWidget* by = findChild<QPushButton*>("desk:add");
    finder_->open(by->mapToGlobal(QPoint(0, by->height() + 3)), 380, tr("a variable for the desk"),
                  std::move(entries));
}

void ExploreStage::dragEnterEvent(QDragEnterEvent* event) {
    if (event->mimeData()->hasFormat("application/x-qabstractitemmodeldatalist")) {
        event->acceptProposedAction();
    }
}

void ExploreStage::dropEvent(QDropEvent* event) {
    QStandardItemModel dropped;
    dropped.dropMimeData(event->mimeData(), Qt::CopyAction, 0, 0, {});
    for (int i = 0; i < dropped.rowCount(); ++i) {
        const std::string name = utf8(dropped.item(i)->text());
        if (session_.frame() && session_.frame()->column(name) != nullptr) {
            putOnDesk(name, true);
            event->acceptProposedAction();
        }
    }
}

std::optional<double> ExploreStage::slopeWithoutSelected() const {
    constexpr std::size_t kMost = 200000;  // More would be felt at every click.
    const DrawnPicture* picture = drawnInHand();
    return picture == nullptr || drawn_->frame->rows() > kMost
               ? std::nullopt
               : slopeWithout(*picture, *drawn_->frame, askedSurvey_, session_.selectedRows());
}

void ExploreStage::addSelectionReading(ReadingContent& content) const {
    const auto& rows = session_.selectedRows();
    const auto frame = session_.frame();
    content.title = numbered(plural(rows.size(), "row", "rows")) + tr(" selected");
    QString names;
    std::size_t k = 0;
    for (const std::size_t row : rows) {
        if (k++ == 6) {
            names += " …";
            break;
        }
        names += (names.isEmpty() ? "" : ", ") +
                 ("<b>" + text(rowName(*frame, row)).toHtmlEscaped() + "</b>");
    }
    content.paragraphs << names + "."
                       << tr("<span style=\"color:{soft}\">They are lit in every picture and "
                             "in the grid.</span>");
    const auto without = slopeWithoutSelected();
    content.actions.push_back(
        {tr("Set aside"),
         without ? tr("Delete — with them the slope of the line is %1, without %2")
                       .arg(numbered(shortNumber(drawnInHand()->slope, 3)),
                            numbered(shortNumber(*without, 3)))
                 : tr("Delete"),
         [this] { session_.setSelectedAside(tr("set aside from a picture")); }});
    content.actions.push_back(
        {tr("Select nothing"), tr("Esc"), [this] { session_.selectRows({}); }});
}

void ExploreStage::addActions(ReadingContent& content) const {
    const auto frame = session_.frame();
    const PictureSpec spec = inHand();
    const bool numbers = std::none_of(spec.of.begin(), spec.of.end(), [&](const auto& name) {
        return frame->column(name) == nullptr || isGroupsOnDesk(*frame, name);
    });
    if (spec.of.size() >= 2 && numbers) {
        std::vector<std::string> names;
        for (const std::string& name : spec.of) {
            names.push_back(quotedName(name));
        }
        std::reverse(names.begin(), names.end());
        content.actions.push_back({tr("Correlate them"),
                                   tr("correlation with interval, and with others held"),
                                   [this, names] { session_.startCorrelate(names); }});
    }
    if (spec.of.size() >= 2 && frame->column(spec.of[0]) != nullptr &&
        !frame->column(spec.of[0])->isText() && !isGrouping(frame->variable(spec.of[0])->measure)) {
        content.actions.push_back(
            {tr("Ask it as a question"),
             tr("explain %1 with %2")
                 .arg(text(spec.of[0]), text(joinedNames({spec.of.begin() + 1, spec.of.end()}))),
             [this, of = spec.of] {
                 Question q;
                 q.outcome = quotedName(of[0]);
                 for (std::size_t k = 1; k < of.size(); ++k) {
                     q.terms.push_back(Term::expression(quotedName(of[k])));
                 }
                 q.title = of[0] + " and " + of[1];
                 session_.putQuestion(q, tr("explain %1").arg(text(of[0])));
             }});
    }
}

/// What the database was asked for the picture, shown on request.
void ExploreStage::addAsked(ReadingContent& content, const DrawnPicture& picture) const {
    auto* self = const_cast<ExploreStage*>(this);
    if (drawn_ && drawn_->refused) {
        content.actions.push_back({tr("Ask again"), tr("there may be an answer now"), [self] {
                                       self->askedFrame_.reset();
                                       self->refresh();
                                   }});
    }
    if (picture.asked.empty()) {
        return;
    }
    const QString count =
        numbered(plural(picture.asked.size(), "statement was", "statements were"));
    if (showsAsked_) {
        content.paragraphs << tr("%1 sent, in one transaction that only reads:").arg(count);
        for (const std::string& statement : picture.asked) {
            content.paragraphs << "<span style=\"color:{soft}\">" +
                                      text(statement).toHtmlEscaped() + "</span>";
        }
    }
    content.actions.push_back({showsAsked_ ? tr("Hide what was asked") : tr("What was asked"),
                               tr("%1 sent").arg(count), [self] {
                                   self->showsAsked_ = !self->showsAsked_;
                                   emit self->readingChanged();
                               }});
}

ReadingContent ExploreStage::reading() const {
    ReadingContent content;
    const auto frame = session_.frame();
    if (!frame) {
        content.title = tr("explore");
        content.paragraphs << tr("Bring data in first.");
        return content;
    }
    if (!session_.selectedRows().empty()) {
        addSelectionReading(content);
        return content;
    }
    const PictureSpec spec = inHand();
    content.title = spec.of.size() == 2   ? tr("%1 and %2").arg(text(spec.of[0]), text(spec.of[1]))
                    : spec.of.empty()     ? tr("explore")
                    : spec.of.size() == 1 ? text(spec.of[0])
                                          : tr("%1 variables").arg(spec.of.size());
    const bool left = frame->left() != nullptr;
    // Of a database the picture itself is what is known.
    if (spec.of.size() <= 2 && !left) {
        for (const auto& name : spec.of) {
            content.paragraphs << "<b>" + text(name).toHtmlEscaped() + "</b>";
            for (const auto& p : session_.readingOf(name)) {
                content.paragraphs << richText(p);
            }
        }
    }
    const DrawnPicture* drawn = drawnInHand();
    if (drawn == nullptr) {
        content.paragraphs << (left ? tr("The database is being asked…")
                                    : tr("Drawing the picture…"));
        return content;
    }
    const DrawnPicture& picture = *drawn;
    if (picture.spec.kind == "scatter" && spec.of.size() == 2 && picture.spec.line &&
        !picture.exhibits.empty() && picture.exhibits.front().xScale == AxisScale::Number &&
        picture.exhibits.front().yScale == AxisScale::Number &&
        !isGroupsOnDesk(*frame, spec.of[0]) && !isGroupsOnDesk(*frame, spec.of[1])) {
        content.paragraphs
            << tr("In a straight line, each further step of %1 goes with %2 of %3 (n = %4). The "
                  "smooth shows whether a line is fair; drag a box to select rows.")
                   .arg(text(spec.of[1]).toHtmlEscaped(), numbered(shortNumber(picture.slope, 3)),
                        text(spec.of[0]).toHtmlEscaped(),
                        numbered(countText(picture.exhibits.front().x.size())));
    }
    for (const std::string& p : picture.words) {
        content.paragraphs << richText(p);
    }
    if (picture.table) {
        content.paragraphs << "<span style=\"color:{soft}\">" +
                                  numbered(picture.table->note).toHtmlEscaped() + "</span>";
    }
    for (const NamedNumber& number : picture.numbers) {
        content.fields.push_back({text(number.name), numbered(number.value), {}, {}, {}});
    }
    if (frame->moments() != nullptr) {
        addAsked(content, picture);
    } else {
        content.fields.push_back({tr("Select where"),
                                  *condition_,
                                  {},
                                  [&session = session_, typed = condition_](const QString& now) {
                                      *typed = now;
                                      selectWhere(session, now);
                                  },
                                  spec.of.empty() ? tr("a condition")
                                  : isGroupsOnDesk(*frame, spec.of[0])
                                      ? tr("%1 = …").arg(text(quotedName(spec.of[0])))
                                      : tr("%1 > …").arg(text(quotedName(spec.of[0])))});
    }
    addActions(content);
    return content;
}

std::vector<ReportItem> ExploreStage::forReport() const {
    const PictureSpec spec = inHand();
    if (spec.of.empty()) {
        return {};
    }
    ReportItem item("picture");
    item.picture = spec;
    return {item};
}

QString ExploreStage::state() const {
    const Desk desk = shownDesk();
    const std::size_t n = inHand().of.size();
    return desk.pictures.size() > 1 ? tr("%1 pictures").arg(desk.pictures.size())
           : n == 0                 ? tr("empty desk")
           : n == 1                 ? tr("1 variable")
                                    : tr("%1 variables").arg(n);
}

}  // namespace rapporto::app
