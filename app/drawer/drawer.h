// SPDX-License-Identifier: GPL-3.0-or-later
//
// The drawer below the lanes: the chosen frame, a stretch of time, one marker, what was found, advice. Each is
// a page of its own; only the page in sight asks anything of the recording.
#pragma once

#include <QStackedWidget>
#include <QTabBar>

#include "advice_page.h"
#include "found_page.h"
#include "frame_page.h"
#include "marker_page.h"
#include "stretch_page.h"

namespace fugato {

class Drawer : public QWidget {
    Q_OBJECT
public:
    enum Page { kFrame, kStretch, kMarker, kFound, kAdvice };  // their places
    Drawer(Document& document, Selection& selection, QWidget* parent = nullptr);
    void show(Page page);
    Page shown() const { return static_cast<Page>(tabs_->currentIndex()); }
    void search(const QString& words);
    /// All pages, in the order of their tabs.
    const QList<DrawerPage*>& pages() const { return pages_; }
    bool busy() const;
    QTabBar& tabs() { return *tabs_; }
    FramePage& frame() { return *frame_; }
    StretchPage& stretch() { return *stretch_; }
    MarkerPage& marker() { return *marker_; }
    FoundPage& found() { return *found_; }
    AdvicePage& advice() { return *advice_; }

private:
    QTabBar* tabs_;
    QStackedWidget* stack_;
    QList<DrawerPage*> pages_;
    FramePage* frame_;
    StretchPage* stretch_;
    MarkerPage* marker_;
    FoundPage* found_;
    AdvicePage* advice_;
};

}  // namespace fugato
