// SPDX-License-Identifier: GPL-3.0-or-later
//
// The drawer below the lanes. What it shows are pages, one of them in sight; only that one asks anything of the
// recording. Pages stand in groups: the tabs are the pages of one group, and the other groups.
#pragma once

#include <QMap>
#include <QStackedWidget>
#include <QTabBar>

#include "page.h"

namespace fugato {

class Document;
class Selection;

class Drawer : public QWidget {
    Q_OBJECT
public:
    Drawer(Document& document, Selection& selection, QWidget* parent = nullptr);
    /// A page by its id; false where there is none.
    bool show(const QString& id);
    QString shown() const;  // id
    QStringList groups() const;
    /// The page of a group that was shown last; where one of it is in sight, the next one.
    void showGroup(const QString& group);
    DrawerPage& current() const;
    /// Searches, and shows the search results.
    void search(const QString& words);
    /// All pages, in the order of their groups.
    const QList<DrawerPage*>& pages() const { return pages_; }
    /// The page of a class.
    template <class Page>
    Page& page() const {
        for (DrawerPage* page : pages_)
            if (auto* wanted = qobject_cast<Page*>(page)) return *wanted;
        qFatal("There is no such page.");
    }
    bool busy() const;
    QTabBar& tabs() { return *tabs_; }
    /// Another page of that kind, or null.
    DrawerPage* anotherPage(const QString& id) const;

signals:
    void shownChanged();  // another page

private:
    void showPage(int at);
    void fillTabs();

    Document& document_;
    Selection& selection_;
    QTabBar* tabs_;
    QStackedWidget* stack_;
    QList<DrawerPage*> pages_;
    QMap<QString, int> lastOf_;  // the page of a group that was shown last
};

}  // namespace fugato
