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

// The children of a part, or with -1 of the panel.

QAccessibleInterface* childOf(const PaintedParts& parts, int part, int index) {
    const auto& all = parts.childrenOf(part);
    return index >= 0 && index < static_cast<int>(all.size()) ? parts.interfaceOf(all[static_cast<size_t>(index)])
                                                              : nullptr;
}

QAccessibleInterface* childOfAt(const PaintedParts& parts, int part, const QPoint& onScreen) {
    const auto& all = parts.childrenOf(part);
    const auto found =
        std::find_if(all.rbegin(), all.rend(), [&](int i) { return parts.onScreen(i).contains(onScreen); });
    return found == all.rend() ? nullptr : parts.interfaceOf(*found);
}

int indexIn(const PaintedParts& parts, int part, const QAccessibleInterface* child) {
    const auto& all = parts.childrenOf(part);
    const auto found = std::find_if(all.begin(), all.end(), [&](int i) { return parts.interfaceOf(i) == child; });
    return found == all.end() ? -1 : static_cast<int>(found - all.begin());
}

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
    QAccessibleInterface* childAt(int x, int y) const override { return childOfAt(parts_, index_, {x, y}); }
    QAccessibleInterface* parent() const override {
        const int within = isValid() ? part().within : -1;
        return within < 0 ? QAccessible::queryAccessibleInterface(parts_.panel()) : parts_.interfaceOf(within);
    }
    QAccessibleInterface* child(int index) const override { return childOf(parts_, index_, index); }
    int childCount() const override { return static_cast<int>(parts_.childrenOf(index_).size()); }
    int indexOfChild(const QAccessibleInterface* child) const override { return indexIn(parts_, index_, child); }
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
    int childCount() const override { return static_cast<int>(parts_.childrenOf(-1).size()); }
    QAccessibleInterface* child(int index) const override { return childOf(parts_, -1, index); }
    int indexOfChild(const QAccessibleInterface* child) const override { return indexIn(parts_, -1, child); }
    QAccessibleInterface* childAt(int x, int y) const override { return childOfAt(parts_, -1, {x, y}); }
    QAccessibleInterface* focusChild() const override {
        const int at = parts_.panel()->hasFocus() ? parts_.currentIndex() : -1;
        return at < 0 ? nullptr : parts_.interfaceOf(at);
    }

private:
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
        children_.assign(parts_.size() + 1, {});
        for (size_t i = 0; i < parts_.size(); ++i)
            children_[static_cast<size_t>(parts_[i].within + 1)].push_back(static_cast<int>(i));
        findCurrent();
    }
    return parts_;
}

const std::vector<int>& PaintedParts::childrenOf(int part) const {
    static const std::vector<int> none;
    const auto count = static_cast<int>(all().size());
    return part < count ? children_[static_cast<size_t>(part + 1)] : none;
}

void PaintedParts::findCurrent() const {
    const auto found =
        std::find_if(parts_.begin(), parts_.end(), [this](const PaintedPart& p) { return p.key == current_; });
    currentAt_ = found == parts_.end() ? -1 : static_cast<int>(found - parts_.begin());
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

/// Where it stands now, as far as the contents are scrolled.
QRect PaintedParts::inPanel(const PaintedPart& part) const {
    return part.fixed ? part.box : part.box.translated(0, -scrolled());
}

QRect PaintedParts::onScreen(int part) const {
    const QRect box = inPanel(all()[static_cast<size_t>(part)]);
    return {painted()->mapToGlobal(box.topLeft()), box.size()};
}

bool PaintedParts::inSight(int part) const {
    return inPanel(all()[static_cast<size_t>(part)]).intersects(painted()->rect());
}

int PaintedParts::currentIndex() const {
    (void)all();
    return currentAt_;
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
    const auto& parts = all();
    const auto found =
        std::find_if(parts.rbegin(), parts.rend(), [&](const PaintedPart& p) { return inPanel(p).contains(place); });
    return found == parts.rend() ? nullptr : &*found;
}

void PaintedParts::setCurrent(const QString& key) {
    if (current_ == key) return;
    current_ = key;
    findCurrent();
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
    if (now && area && !now->fixed) {
        constexpr int kMargin = 8;
        QScrollBar* bar = area->verticalScrollBar();
        if (now->box.top() - kMargin < bar->value())
            bar->setValue(now->box.top() - kMargin);
        else if (now->box.bottom() + kMargin > bar->value() + painted()->height())
            bar->setValue(now->box.bottom() + kMargin - painted()->height());
    }
    painted()->update();
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
