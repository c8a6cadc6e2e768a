// SPDX-License-Identifier: GPL-3.0-or-later
//
// What stands in a painted panel, part by part. From one list come what the pointer meets, what the arrow keys and
// Enter reach, what is copied, and what a screen reader finds. Interface thread only.
#pragma once

#include <QAccessible>
#include <QObject>
#include <QRect>
#include <QString>
#include <functional>
#include <optional>
#include <vector>

class QKeyEvent;
class QMenu;
class QPainter;

namespace fugato {

struct PaintedPart {
    QString key;  // the same as long as it is about the same
    QRect box;    // in the panel's contents, as they stand before they are scrolled
    QAccessible::Role role = QAccessible::StaticText;
    QString name;                // what it says; this is copied
    QString more = {};           // what else there is to it, or what it does
    std::function<void()> act;   // at a click or Enter; null: nothing
    bool selected = false;       // what the panel has selected
    std::optional<bool> on;      // of a switch
    bool actsOnArrival = false;  // as soon as the arrow keys come to it
    int within = -1;             // the part it lies in, which stands before it
    bool fixed = false;          // stays where it is while the contents are scrolled
};

class PaintedParts : public QObject {
    Q_OBJECT
public:
    /// `list` is asked when the parts are needed for the first time after they changed. Belongs to `panel`, a widget or
    /// a scroll area, whose contents are painted.
    PaintedParts(QWidget* panel, std::function<std::vector<PaintedPart>()> list);
    ~PaintedParts() override;

    /// What stands in the panel is another. The current part stays current while there is one with its key.
    void changed();
    /// The same, but nobody need hear of it: it was painted again.
    void forget() { known_ = false; }
    const std::vector<PaintedPart>& all() const;
    /// The innermost part at a place of the painted widget, or null.
    const PaintedPart* at(const QPoint& place) const;
    /// The part the keyboard is at, or null.
    const PaintedPart* current() const;
    void setCurrent(const QString& key);

    /// Acts for the part there; whether there was one that acts.
    bool click(const QPoint& place);
    /// Up, Down, Enter and copying; whether that was meant.
    bool press(const QKeyEvent& event);
    /// A frame around the current part, where the keyboard has come to it. In the coordinates of the contents.
    void paintFocus(QPainter& painter) const;
    /// The same around the whole panel.
    void paintPanelFocus(QPainter& painter, const QRect& area) const;
    /// The pointer is used: the frame goes.
    void leaveKeyboard() { byKeyboard_ = false; }
    /// Copying what is said at a place, and everything.
    void fillMenu(QMenu& menu, const QPoint& place) const;
    QString textOfAll() const;

    QWidget* panel() const { return panel_; }
    QRect onScreen(int part) const;
    bool inSight(int part) const;
    int currentIndex() const;
    /// The parts that lie in a part, or with -1 in none.
    const std::vector<int>& childrenOf(int part) const;
    QAccessibleInterface* interfaceOf(int part) const;

protected:
    bool eventFilter(QObject* watched, QEvent* event) override;

private:
    void moveTo(int part);
    void findCurrent() const;
    QRect inPanel(const PaintedPart& part) const;
    int scrolled() const;
    QWidget* painted() const;

    QWidget* const panel_;
    const std::function<std::vector<PaintedPart>()> list_;
    mutable std::vector<PaintedPart> parts_;
    mutable std::vector<std::vector<int>> children_;  // by part + 1
    mutable bool known_ = false;
    QString current_;
    mutable int currentAt_ = -1;  // in parts_
    bool byKeyboard_ = false;
    mutable std::vector<QAccessible::Id> interfaces_;  // by index
};

}  // namespace fugato
