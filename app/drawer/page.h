// SPDX-License-Identifier: GPL-3.0-or-later
//
// A page of the drawer. What it says of itself here is what its tab, the Tables menu, the keys, F1, the command line
// and the tests show: a new page is a folder or file of its own and one line in drawer.cpp.
#pragma once

#include <QMenu>
#include <QWidget>

namespace fugato {

class DrawerPage : public QWidget {
    Q_OBJECT
public:
    /// What of the recording it is about.
    enum class About {
        Scope,      // what is looked at
        Marker,     // the selected marker, in what is looked at
        Instant,    // the chosen one
        Recording,  // all of it
    };
    struct Words {
        QString id;     // on the command line: --page marker
        QString tab;    // "Marker"
        QString menu;   // "Figures of the marker"
        QString help;   // what it shows, in a sentence
        QString group;  // of pages that stand together; neighbours in the list of drawer.cpp
        About about{};
    };
    using QWidget::QWidget;
    virtual Words words() const = 0;
    /// Adds what can be done with what it shows, for the Tables menu.
    virtual void fillMenu(QMenu& menu) = 0;
    bool speaksOfScope() const { return words().about == About::Scope; }
    /// Whether it is still being worked out.
    virtual bool busy() const { return false; }

signals:
    void pageWanted(const QString& id);  // another one has what the person asked for
};

}  // namespace fugato
