// SPDX-License-Identifier: GPL-3.0-or-later
#include "painted_parts.h"

#include <QAbstractScrollArea>
#include <QAccessibleWidget>
#include <QApplication>
#include <QClipboard>
#include <QFocusEvent>
#include <QKeyEvent>
#include <QMenu>
#include <QPainter>
#include <QScrollBar>
#include <algorithm>

#include "app/theme/theme.h"

namespace fugato {

namespace {

/// One part as assistive programs meet it. Stays when the parts change, and then tells of the one with its index.
class PartInterface : public QAccessibleInterface, public QAccessibleActionInterface {
public:
    PartInterface(const PaintedParts& parts, int index) : parts_(parts), index_(index) {}

    bool isValid() const override { return index_ < static_cast<int>(parts_.all().size()); }
    QObject* object() const override { return nullptr; }
    QWindow* window() const override {
        const QWidget* top = parts_.panel()->window();
        return top ? top->windowHandle() : nullptr;
    }
    QAccessibleInterface* childAt(int x, int y) const override {
        for (int i = childCount() - 1; i >= 0; --i)
            if (child(i)->rect().contains(x, y)) return child(i);
        return nullptr;
    }
    QAccessibleInterface* parent() const override {
        const int within = isValid() ? part().within : -1;
        return within < 0 ? QAccessible::queryAccessibleInterface(parts_.panel()) : parts_.interfaceOf(within);
    }
    QAccessibleInterface* child(int index) const override {
        for (int i = index_ + 1; i < static_cast<int>(parts_.all().size()); ++i)
            if (parts_.all()[static_cast<size_t>(i)].within == index_ && index-- == 0) return parts_.interfaceOf(i);
        return nullptr;
    }
    int childCount() const override {
        return static_cast<int>(std::count_if(parts_.all().begin(), parts_.all().end(),
                                              [this](const PaintedPart& p) { return p.within == index_; }));
    }
    int indexOfChild(const QAccessibleInterface* child) const override {
        for (int i = 0; i < childCount(); ++i)
            if (this->child(i) == child) return i;
        return -1;
    }
    QString text(QAccessible::Text kind) const override {
        if (!isValid()) return {};
        if (kind == QAccessible::Name) return part().name;
        return kind == QAccessible::Description ? part().more : QString();
    }
    void setText(QAccessible::Text, const QString&) override {}
    QRect rect() const override { return isValid() ? parts_.onScreen(index_) : QRect(); }
    QAccessible::Role role() const override { return isValid() ? part().role : QAccessible::NoRole; }
    QAccessible::State state() const override {
        QAccessible::State state;
        if (!isValid()) {
            state.invalid = true;
            return state;
        }
        state.readOnly = true;
        state.focusable = true;
        state.focused = parts_.currentIndex() == index_ && parts_.panel()->hasFocus();
        state.selectable = part().role == QAccessible::ListItem;
        state.selected = part().selected;
        state.checkable = part().on.has_value();
        state.checked = part().on.value_or(false);
        state.offscreen = !parts_.inSight(index_);
        return state;
    }
    void* interface_cast(QAccessible::InterfaceType type) override {
        return type == QAccessible::ActionInterface ? static_cast<QAccessibleActionInterface*>(this) : nullptr;
    }

    QStringList actionNames() const override {
        return isValid() && part().act ? QStringList{part().on ? toggleAction() : pressAction()} : QStringList();
    }
    void doAction(const QString& name) override {
        if (!actionNames().contains(name)) return;
        const auto act = part().act;  // which may change the parts
        act();
    }
    QStringList keyBindingsForAction(const QString&) const override { return {}; }

private:
    const PaintedPart& part() const { return parts_.all()[static_cast<size_t>(index_)]; }
    const PaintedParts& parts_;
    const int index_;
};

/// The panel, whose children are its parts.
class PanelInterface : public QAccessibleWidget {
public:
    PanelInterface(QWidget* panel, const PaintedParts& parts)
        : QAccessibleWidget(panel, QAccessible::List), parts_(parts) {}
    int childCount() const override { return static_cast<int>(tops().size()); }
    QAccessibleInterface* child(int index) const override {
        const auto found = tops();
        return index >= 0 && index < static_cast<int>(found.size()) ? parts_.interfaceOf(found[index]) : nullptr;
    }
    int indexOfChild(const QAccessibleInterface* child) const override {
        const auto found = tops();
        for (int i = 0; i < static_cast<int>(found.size()); ++i)
            if (parts_.interfaceOf(found[i]) == child) return i;
        return -1;
    }
    QAccessibleInterface* childAt(int x, int y) const override {
        for (int i = childCount() - 1; i >= 0; --i)
            if (QAccessibleInterface* one = child(i); one->rect().contains(x, y)) return one;
        return nullptr;
    }
    QAccessibleInterface* focusChild() const override {
        const int at = parts_.panel()->hasFocus() ? parts_.currentIndex() : -1;
        return at < 0 ? nullptr : parts_.interfaceOf(at);
    }

private:
    QList<int> tops() const {
        QList<int> found;
        for (int i = 0; i < static_cast<int>(parts_.all().size()); ++i)
            if (parts_.all()[static_cast<size_t>(i)].within < 0) found << i;
        return found;
    }
    const PaintedParts& parts_;
};

/// For a menu.
QString shortened(const QString& text) {
    constexpr qsizetype kMost = 40;
    QString out = text.size() > kMost ? text.left(kMost) + "…" : text;
    return out.replace("&", "&&");
}

QAccessibleInterface* make(const QString&, QObject* object) {
    auto* widget = qobject_cast<QWidget*>(object);
    const auto* parts = widget ? widget->findChild<PaintedParts*>(QString(), Qt::FindDirectChildrenOnly) : nullptr;
    return parts ? new PanelInterface(widget, *parts) : nullptr;
}

}  // namespace

PaintedParts::PaintedParts(QWidget* panel, std::function<std::vector<PaintedPart>()> list)
    : QObject(panel), panel_(panel), list_(std::move(list)) {
    static const bool installed = (QAccessible::installFactory(make), true);
    (void)installed;
    panel->installEventFilter(this);
}

PaintedParts::~PaintedParts() {
    for (const QAccessible::Id id : interfaces_) QAccessible::deleteAccessibleInterface(id);
}

const std::vector<PaintedPart>& PaintedParts::all() const {
    if (!known_) {
        parts_ = list_();
        known_ = true;
    }
    return parts_;
}

void PaintedParts::changed() {
    known_ = false;
    if (!QAccessible::isActive()) return;
    QAccessibleEvent event(panel_, QAccessible::ObjectReorder);
    QAccessible::updateAccessibility(&event);
}

QWidget* PaintedParts::painted() const {
    const auto* area = qobject_cast<QAbstractScrollArea*>(panel_);
    return area ? area->viewport() : panel_;
}

int PaintedParts::scrolled() const {
    const auto* area = qobject_cast<QAbstractScrollArea*>(panel_);
    return area ? area->verticalScrollBar()->value() : 0;
}

QRect PaintedParts::onScreen(int part) const {
    const QRect box = all()[static_cast<size_t>(part)].box.translated(0, -scrolled());
    return {painted()->mapToGlobal(box.topLeft()), box.size()};
}

bool PaintedParts::inSight(int part) const {
    return all()[static_cast<size_t>(part)].box.translated(0, -scrolled()).intersects(painted()->rect());
}

int PaintedParts::currentIndex() const {
    const auto& parts = all();
    const auto found =
        std::find_if(parts.begin(), parts.end(), [this](const PaintedPart& p) { return p.key == current_; });
    return found == parts.end() ? -1 : static_cast<int>(found - parts.begin());
}

const PaintedPart* PaintedParts::current() const {
    const int at = currentIndex();
    return at < 0 ? nullptr : &all()[static_cast<size_t>(at)];
}

QAccessibleInterface* PaintedParts::interfaceOf(int part) const {
    while (static_cast<int>(interfaces_.size()) <= part)
        interfaces_.push_back(
            QAccessible::registerAccessibleInterface(new PartInterface(*this, static_cast<int>(interfaces_.size()))));
    return QAccessible::accessibleInterface(interfaces_[static_cast<size_t>(part)]);
}

const PaintedPart* PaintedParts::at(const QPoint& place) const {
    const QPoint at = place + QPoint(0, scrolled());
    const auto& parts = all();
    const auto found =
        std::find_if(parts.rbegin(), parts.rend(), [&](const PaintedPart& p) { return p.box.contains(at); });
    return found == parts.rend() ? nullptr : &*found;
}

void PaintedParts::setCurrent(const QString& key) {
    if (current_ == key) return;
    current_ = key;
    const int at = panel_->hasFocus() && QAccessible::isActive() ? currentIndex() : -1;
    if (at < 0) return;
    QAccessibleEvent event(interfaceOf(at), QAccessible::Focus);
    QAccessible::updateAccessibility(&event);
}

bool PaintedParts::click(const QPoint& place) {
    const PaintedPart* part = at(place);
    byKeyboard_ = false;
    if (!part || !part->act) return false;
    setCurrent(part->key);
    const auto act = part->act;  // which may change the parts
    act();
    painted()->update();
    return true;
}

void PaintedParts::moveTo(int part) {
    byKeyboard_ = true;
    setCurrent(all()[static_cast<size_t>(part)].key);
    if (all()[static_cast<size_t>(part)].actsOnArrival) {
        const auto act = all()[static_cast<size_t>(part)].act;
        act();
    }
    const PaintedPart* now = current();
    const auto* area = qobject_cast<QAbstractScrollArea*>(panel_);
    if (now && area) {
        constexpr int kMargin = 8;
        QScrollBar* bar = area->verticalScrollBar();
        if (now->box.top() - kMargin < bar->value())
            bar->setValue(now->box.top() - kMargin);
        else if (now->box.bottom() + kMargin > bar->value() + painted()->height())
            bar->setValue(now->box.bottom() + kMargin - painted()->height());
    }
    painted()->update();
    emit moved();
}

bool PaintedParts::press(const QKeyEvent& event) {
    if (event.matches(QKeySequence::Copy)) {
        if (const PaintedPart* part = current()) QApplication::clipboard()->setText(part->name);
        return true;
    }
    if (event.modifiers() & ~Qt::KeypadModifier) return false;
    const auto count = static_cast<int>(all().size());
    const int now = currentIndex();
    switch (event.key()) {
        case Qt::Key_Down:
        case Qt::Key_Up:
            if (count)
                moveTo(std::clamp(event.key() == Qt::Key_Down ? now + 1 : now < 0 ? count - 1 : now - 1, 0, count - 1));
            return true;
        case Qt::Key_Return:
        case Qt::Key_Enter:
        case Qt::Key_Space:
            if (const PaintedPart* part = current(); part && part->act) {
                const auto act = part->act;
                act();
                painted()->update();
            }
            return true;
        default: return false;
    }
}

void PaintedParts::paintFocus(QPainter& painter) const {
    const PaintedPart* part = byKeyboard_ && panel_->hasFocus() ? current() : nullptr;
    if (!part) return;
    painter.setPen(QPen(theme().path, 2));
    painter.setBrush(Qt::NoBrush);
    painter.drawRoundedRect(QRectF(part->box), 3, 3);
}

void PaintedParts::paintPanelFocus(QPainter& painter, const QRect& area) const {
    if (!byKeyboard_ || !panel_->hasFocus()) return;
    painter.setPen(QPen(theme().path, 2));
    painter.setBrush(Qt::NoBrush);
    painter.drawRect(QRectF(area).adjusted(1, 1, -1, -1));
}

QString PaintedParts::textOfAll() const {
    QStringList lines;
    for (const PaintedPart& part : all()) lines << part.name;
    return lines.join('\n');
}

void PaintedParts::fillMenu(QMenu& menu, const QPoint& place) const {
    if (const PaintedPart* part = at(place))
        menu.addAction(tr("&Copy “%1”").arg(shortened(part->name)), this,
                       [text = part->name] { QApplication::clipboard()->setText(text); });
    menu.addAction(tr("Copy &all of this panel"), this,
                   [text = textOfAll()] { QApplication::clipboard()->setText(text); });
}

bool PaintedParts::eventFilter(QObject* watched, QEvent* event) {
    if (event->type() == QEvent::FocusIn) {
        const auto reason = static_cast<QFocusEvent*>(event)->reason();
        if (reason == Qt::TabFocusReason || reason == Qt::BacktabFocusReason || reason == Qt::ShortcutFocusReason) {
            byKeyboard_ = true;
            const auto& parts = all();
            if (!current() && !parts.empty()) {  // begin at what is selected
                const auto chosen =
                    std::find_if(parts.begin(), parts.end(), [](const PaintedPart& p) { return p.selected; });
                setCurrent((chosen == parts.end() ? parts.front() : *chosen).key);
            }
        }
    }
    if (event->type() == QEvent::FocusIn || event->type() == QEvent::FocusOut) painted()->update();
    return QObject::eventFilter(watched, event);
}

}  // namespace fugato
