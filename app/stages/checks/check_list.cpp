#include "app/stages/checks/check_list.h"

#include "app/shell/theme.h"

#include <QKeyEvent>
#include <QMouseEvent>
#include <QPainter>

#include <algorithm>

namespace rapporto::app {

namespace {

/// The heading says which equation it is of.
std::string nameInList(const CheckResult& result) {
    CheckResult alone;
    alone.id = result.id;
    return checkName(alone);
}

/// The questions of an answer with their checks, each equation of a system with its own.
template <typename Asked>
std::vector<Asked> askedOfAnswer(const Answer& answer) {
    std::vector<Asked> out;
    for (const CheckResult& result : answer.checks) {
        const Check* check = findCheck(result.id);
        const std::string asks = check == nullptr ? "Other" : check->group;
        const std::string key =
            result.equation.empty() ? asks : result.equation.substr(3) + " · " + asks;
        auto at =
            std::find_if(out.begin(), out.end(), [&](const Asked& one) { return one.key == key; });
        if (at == out.end()) {
            at = out.insert(out.end(), Asked{key, {}, {}});
        }
        at->checks.push_back(&result);
    }
    for (Asked& one : out) {
        const auto verdicts = verdictsByGroup(one.checks, answer.alpha);
        if (!verdicts.empty()) {
            one.verdict = verdicts.front();
        }
    }
    return out;
}

/// It is being worked out, and no answer before had it.
bool isUnknown(const CheckResult& result) {
    return result.awaited && result.verdict == Verdict::NotApplicable;
}

}  // namespace

CheckList::CheckList(QWidget* parent) : QWidget(parent) {
    setFocusPolicy(Qt::StrongFocus);
    setAccessibleName(tr("Checks"));
    tellParts();
    setMinimumWidth(262);
}

void CheckList::showChecks(std::shared_ptr<const Answer> answer, bool fresh,
                           const std::string& selected) {
    answer_ = std::move(answer);
    fresh_ = fresh;
    // A check that was asked for is seen; after that one may fold it away.
    const std::string asked = selected == selected_ ? std::string() : selected;
    selected_ = selected;
    layOut(asked);
    setAccessibleDescription(text(selected_));
    update();
    tellChosen(*this);
}

const CheckResult* CheckList::Asked::leading() const {
    for (const CheckResult* result : checks) {
        if (!verdict.ids.empty() && result->id == verdict.ids.front()) {
            return result;
        }
    }
    return checks.front();
}

bool CheckList::Asked::holds(const std::string& check) const {
    return std::any_of(checks.begin(), checks.end(),
                       [&](const CheckResult* result) { return checkKey(*result) == check; });
}

const CheckList::Asked* CheckList::askedOf(const std::string& check) const {
    const auto at = std::find_if(asked_.begin(), asked_.end(),
                                 [&](const Asked& one) { return one.holds(check); });
    return at == asked_.end() ? nullptr : &*at;
}

void CheckList::layOut(const std::string& show) {
    rows_.clear();
    asked_ = answer_ ? askedOfAnswer<Asked>(*answer_) : std::vector<Asked>();
    // Questions of which nothing applies stand below the others, folded away.
    const auto rest = std::stable_partition(asked_.begin(), asked_.end(), [](const Asked& one) {
        return one.verdict.worst != Verdict::NotApplicable || one.verdict.awaited;
    });
    int y = 8;
    const auto add = [&](int height, Row row) {
        row.place = QRect(0, y, 0, height);
        rows_.push_back(std::move(row));
        y += height;
    };
    std::size_t hidden = 0;
    for (auto one = asked_.begin(); one != asked_.end(); ++one) {
        if (one->holds(show)) {
            open_.insert(one->key);
            unfolded_ = unfolded_ || one >= rest;
        }
        hidden += one >= rest ? one->checks.size() : 0;
    }
    if (rest == asked_.begin() && !asked_.empty()) {
        Row words;
        words.words = tr("No check is made for such a fit");
        add(28, words);
    }
    for (auto one = asked_.begin(); one != asked_.end(); ++one) {
        if (one == rest) {
            Row fold;
            fold.words = (hidden == 1 ? tr("1 that does not apply")
                                      : tr("%1 that do not apply").arg(hidden)) +
                         (unfolded_ ? " ▾" : " ▸");
            fold.fold = true;
            add(30, fold);
            if (!unfolded_) {
                break;
            }
        }
        Row heading;
        heading.asked = &*one;
        add(one < rest ? 42 : 26, heading);
        if (!open_.contains(one->key)) {
            continue;
        }
        for (const CheckResult* result : one->checks) {
            Row row;
            row.asked = &*one;
            row.result = result;
            add(23, row);
        }
    }
    setMinimumHeight(y + 8);
}

std::vector<ToldPart> CheckList::toldParts() {
    std::vector<ToldPart> out;
    for (const Row& row : rows_) {
        ToldPart part;
        part.place = QRect(0, row.place.top(), width(), row.place.height());
        if (row.asked == nullptr) {
            part.name = row.words;
            if (row.fold) {
                part.role = QAccessible::Button;
                part.press = [this] { unfold(!unfolded_); };
            }
        } else if (row.result == nullptr) {
            const bool open = open_.contains(row.asked->key);
            part.role = QAccessible::TreeItem;
            part.name =
                QStringList{text(row.asked->key), text(verdictName(row.asked->verdict.worst)),
                            numbered(row.asked->verdict.line), open ? tr("open") : tr("folded")}
                    .join(", ");
            part.chosen = !open && row.asked->holds(selected_);
            part.press = [this, asked = row.asked] { turn(*asked); };
        } else {
            part.role = QAccessible::TreeItem;
            part.name = QStringList{text(nameInList(*row.result)),
                                    isUnknown(*row.result) ? tr("being worked out")
                                                           : text(verdictName(row.result->verdict)),
                                    numbered(row.result->headline)}
                            .join(", ");
            part.chosen = checkKey(*row.result) == selected_;
            part.press = [this, id = checkKey(*row.result)] { emit checkChosen(id); };
        }
        out.push_back(std::move(part));
    }
    return out;
}

void CheckList::unfold(bool open) {
    unfolded_ = open;
    layOut();
    update();
}

void CheckList::turn(const Asked& asked) {
    const bool shut = open_.contains(asked.key);
    const std::string lead = checkKey(*asked.leading());
    if (shut) {
        open_.erase(asked.key);
    } else {
        open_.insert(asked.key);
    }
    const bool here = asked.holds(selected_);
    layOut();
    update();
    if (!shut && !here) {
        emit checkChosen(lead);
    }
}

QRect CheckList::foldPlace() const {
    for (const Row& row : rows_) {
        if (row.fold) {
            return {0, row.place.top(), width(), row.place.height()};
        }
    }
    return {};
}

QRect CheckList::rowOf(const std::string& id) const {
    for (const Row& row : rows_) {
        if (row.result != nullptr && checkKey(*row.result) == id) {
            return {0, row.place.top(), width(), row.place.height()};
        }
    }
    return {};
}

QRect CheckList::questionOf(const std::string& id) const {
    for (const Row& row : rows_) {
        if (row.asked != nullptr && row.result == nullptr && row.asked->holds(id)) {
            return {0, row.place.top(), width(), row.place.height()};
        }
    }
    return {};
}

QSize CheckList::sizeHint() const { return {268, minimumHeight()}; }

void CheckList::paintAsked(QPainter& painter, const Row& row) const {
    const QRect r(0, row.place.top(), width(), row.place.height());
    const Asked& asked = *row.asked;
    const bool open = open_.contains(asked.key);
    const bool applies = asked.verdict.worst != Verdict::NotApplicable;
    painter.setOpacity(fresh_ && !asked.verdict.awaited ? 1.0 : 0.45);
    if (!open && asked.holds(selected_)) {
        painter.fillRect(r, colour::kAccentWash);
        painter.fillRect(QRect(0, r.top(), 3, r.height()), colour::kAccent);
    }
    if (applies) {
        drawVerdict(painter, QPointF(16, r.top() + 14), asked.verdict.worst);
    }
    painter.setFont(interfaceFont(11));
    painter.setPen(colour::kSoft);
    painter.drawText(QRect(r.right() - 20, r.top(), 14, 28), Qt::AlignCenter, open ? "▾" : "▸");
    painter.setFont(paperFont(15, true));
    painter.setPen(applies ? colour::kInk : colour::kSoft);
    painter.drawText(
        QRect(28, r.top(), r.width() - 50, 26), Qt::AlignLeft | Qt::AlignVCenter,
        painter.fontMetrics().elidedText(text(asked.key), Qt::ElideRight, r.width() - 50));
    if (row.place.height() > 30) {
        painter.setFont(interfaceFont(12));
        painter.setPen(colour::kSoft);
        painter.drawText(QRect(28, r.top() + 22, r.width() - 36, 18),
                         Qt::AlignLeft | Qt::AlignVCenter,
                         painter.fontMetrics().elidedText(numbered(asked.verdict.line),
                                                          Qt::ElideRight, r.width() - 36));
    }
}

void CheckList::paintCheck(QPainter& painter, const Row& row) const {
    const QRect r(0, row.place.top(), width(), row.place.height());
    const bool chosen = checkKey(*row.result) == selected_;
    const bool unknown = isUnknown(*row.result);
    painter.setOpacity(fresh_ && !row.result->awaited ? 1.0 : 0.45);
    if (chosen) {
        painter.fillRect(r, colour::kAccentWash);
        painter.fillRect(QRect(0, r.top(), 3, r.height()), colour::kAccent);
    }
    if (!unknown) {
        drawVerdict(painter, QPointF(36, r.center().y() + 0.5), row.result->verdict);
    }
    painter.setFont(interfaceFont(13, chosen));
    painter.setPen(row.result->verdict == Verdict::NotApplicable ? colour::kSoft : colour::kInk);
    const QString name = text(nameInList(*row.result));
    painter.drawText(r.adjusted(50, 0, -8, 0), Qt::AlignLeft | Qt::AlignVCenter, name);
    const int left = 50 + painter.fontMetrics().horizontalAdvance(name) + 10;
    painter.setFont(interfaceFont(12));
    painter.setPen(colour::kSoft);
    painter.drawText(r.adjusted(left, 0, -10, 0), Qt::AlignRight | Qt::AlignVCenter,
                     unknown
                         ? QString("…")
                         : painter.fontMetrics().elidedText(numbered(row.result->headline),
                                                            Qt::ElideRight, r.width() - left - 10));
}

void CheckList::paintEvent(QPaintEvent* /*event*/) {
    QPainter painter(this);
    for (const Row& row : rows_) {
        if (row.asked == nullptr) {
            painter.setOpacity(fresh_ ? 1.0 : 0.45);
            painter.setFont(row.fold ? interfaceFont(12) : paperFont(15, true));
            painter.setPen(row.fold ? colour::kSoft : colour::kInk);
            painter.drawText(
                QRect(28, row.place.top() + (row.fold ? 4 : 0), width() - 32, row.place.height()),
                Qt::AlignLeft | Qt::AlignVCenter, row.words);
        } else if (row.result == nullptr) {
            paintAsked(painter, row);
        } else {
            paintCheck(painter, row);
        }
    }
}

void CheckList::mousePressEvent(QMouseEvent* event) {
    for (const Row& row : rows_) {
        if (event->position().y() < row.place.top() ||
            event->position().y() >= row.place.bottom() + 1) {
            continue;
        }
        if (row.fold) {
            unfold(row.words.endsWith("▸"));
        } else if (row.result != nullptr) {
            emit checkChosen(checkKey(*row.result));
        } else if (row.asked != nullptr) {
            turn(*row.asked);
        }
        return;
    }
}

std::string CheckList::answerTo(const std::string& id) const {
    const Asked* asked = askedOf(id);
    const bool leads = asked != nullptr && asked->checks.size() > 1 &&
                       checkKey(*asked->leading()) == id &&
                       asked->verdict.worst != Verdict::NotApplicable && !asked->verdict.awaited;
    return leads ? asked->verdict.reading : std::string();
}

void CheckList::step(const std::string& id) {
    selected_ = id;  // Known here already: what was folded stays so.
    emit checkChosen(id);
}

void CheckList::keyPressEvent(QKeyEvent* event) {
    // A folded question is one stop, an unfolded one has a stop for each of its checks.
    std::vector<std::string> stops;
    std::size_t here = 0;
    for (const Row& row : rows_) {
        const bool folded = row.asked != nullptr && !open_.contains(row.asked->key);
        if (row.asked == nullptr || (row.result == nullptr && !folded)) {
            continue;
        }
        const bool chosen =
            folded ? row.asked->holds(selected_) : checkKey(*row.result) == selected_;
        here = chosen ? stops.size() : here;
        stops.push_back(checkKey(folded ? *row.asked->leading() : *row.result));
    }
    const Asked* asked = askedOf(selected_);
    const bool open = asked != nullptr && open_.contains(asked->key);
    const int key = event->key();
    if (key == Qt::Key_Down && here + 1 < stops.size()) {
        step(stops[here + 1]);
    } else if (key == Qt::Key_Up && here > 0 && !stops.empty()) {
        step(stops[here - 1]);
    } else if (key == Qt::Key_Down && !foldPlace().isEmpty() && !unfolded_) {
        unfold(true);
    } else if (asked != nullptr && (key == (open ? Qt::Key_Left : Qt::Key_Right) ||
                                    key == Qt::Key_Space || key == Qt::Key_Return)) {
        turn(*asked);
    } else {
        QWidget::keyPressEvent(event);
    }
}

}  // namespace rapporto::app
