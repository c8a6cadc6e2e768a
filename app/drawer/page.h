// SPDX-License-Identifier: GPL-3.0-or-later
//
// A page of the drawer. What it says of itself here is what the tab, the View menu, the keys, F1 and the command line
// show: a new page is a folder or file of its own and one line in drawer.cpp.
#pragma once

#include <QWidget>

namespace fugato {

class DrawerPage : public QWidget {
    Q_OBJECT
public:
    struct Words {
        QString id;    // on the command line: --page marker
        QString tab;   // "Marker"
        QString menu;  // "Figures of the marker"
        QString help;  // what it shows, in a sentence
    };
    using QWidget::QWidget;
    virtual Words words() const = 0;
    /// Whether it is still being worked out.
    virtual bool busy() const { return false; }
};

}  // namespace fugato
