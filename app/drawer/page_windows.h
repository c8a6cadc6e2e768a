// SPDX-License-Identifier: GPL-3.0-or-later
//
// Pages in windows of their own, for a second screen, beside the one in the drawer. Which ones are open, and where, is
// remembered.
#pragma once

#include "drawer.h"

namespace fugato {

class PageWindows : public QObject {
    Q_OBJECT
public:
    PageWindows(Drawer& drawer, QWidget& window);
    /// Another page of that kind in a window of its own; nothing where there is none.
    void open(const QString& id);
    /// Those that were open the last time.
    void openRemembered();
    void remember();
    void closeAll();
    QList<DrawerPage*> pages() const;
    bool busy() const;

private:
    QWidget* openAt(const QString& id, const QByteArray& geometry);

    Drawer& drawer_;
    QWidget& window_;
    QList<QWidget*> windows_;
    QList<DrawerPage*> pages_;  // of the windows, in their order
};

}  // namespace fugato
