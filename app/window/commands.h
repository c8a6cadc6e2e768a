// SPDX-License-Identifier: GPL-3.0-or-later
//
// What the window can do: name, keys and help of each command stand once. Menus, shortcuts and the page of keys (F1)
// come from here.
#pragma once

#include <QAction>
#include <QKeySequence>
#include <QMenu>
#include <functional>

namespace fugato {

class Commands {
public:
    /// Where keys without Ctrl or Alt act; elsewhere, in fields and tables, they are those widgets' own.
    void setPictures(const QList<QWidget*>& pictures) { pictures_ = pictures; }
    /// `help` is for F1, where commands with the same help share a line; those without keys or help are not there.
    QAction* add(QMenu* menu, const QString& name, const QList<QKeySequence>& keys, const QString& help,
                 std::function<void()> act);
    /// One that is on or off.
    QAction* addSwitch(QMenu* menu, const QString& name, const QKeySequence& key, const QString& help, bool on,
                       std::function<void(bool)> turn);
    /// What panels take themselves, with the mouse or a key: "Shift+drag".
    void addGesture(const QString& keys, const QString& help);

    /// Every key and gesture and what it does, in the order of adding.
    struct Line {
        QString keys, help;
    };
    const QList<Line>& lines() const { return lines_; }

private:
    QAction* make(QMenu* menu, const QString& name, const QList<QKeySequence>& keys, const QString& help);
    QList<Line> lines_;
    QList<QWidget*> pictures_;
};

}  // namespace fugato
