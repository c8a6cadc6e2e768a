// SPDX-License-Identifier: GPL-3.0-or-later
#include "commands.h"

#include "app/theme/words.h"

namespace fugato {

namespace {

/// As it stands on the keyboard.
QString keyText(const QKeySequence& key) {
    QString text = key.toString(QKeySequence::PortableText);
    text.replace("PgDown", "Page Down").replace("PgUp", "Page Up");
    return text;
}

/// One that a field or a table may want for itself: a letter, Home, Page Up…
bool isBare(const QKeySequence& key) {
    const QKeyCombination first = key[0];
    const bool function = first.key() >= Qt::Key_F1 && first.key() <= Qt::Key_F35;
    return !function && !(first.keyboardModifiers() & (Qt::ControlModifier | Qt::AltModifier | Qt::MetaModifier));
}

}  // namespace

QAction* Commands::make(QMenu* menu, const QString& name, const QList<QKeySequence>& keys, const QString& help) {
    QAction* action = menu->addAction(name);
    action->setShortcuts(keys);
    if (!keys.isEmpty() && isBare(keys.front())) {
        action->setShortcutContext(Qt::WidgetWithChildrenShortcut);
        for (QWidget* picture : pictures_) picture->addAction(action);
    }
    if (!keys.isEmpty() && !help.isEmpty()) addGesture(keyText(keys.front()), help);
    return action;
}

QAction* Commands::add(QMenu* menu, const QString& name, const QList<QKeySequence>& keys, const QString& help,
                       std::function<void()> act) {
    QAction* action = make(menu, name, keys, help);
    QObject::connect(action, &QAction::triggered, action, [act = std::move(act)] { act(); });
    return action;
}

QAction* Commands::addSwitch(QMenu* menu, const QString& name, const QKeySequence& key, const QString& help, bool on,
                             std::function<void(bool)> turn) {
    QAction* action = make(menu, name, key.isEmpty() ? QList<QKeySequence>() : QList<QKeySequence>{key}, help);
    action->setCheckable(true);
    action->setChecked(on);
    action->setToolTip(plainTip(help));
    QObject::connect(action, &QAction::toggled, action, [turn = std::move(turn)](bool now) { turn(now); });
    return action;
}

void Commands::addGesture(const QString& keys, const QString& help) {
    const QString said = capitalised(help);
    for (Line& line : lines_)
        if (line.help == said) {
            line.keys += ", " + keys;
            return;
        }
    lines_ << Line{keys, said};
}

}  // namespace fugato
