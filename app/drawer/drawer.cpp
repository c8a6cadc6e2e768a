// SPDX-License-Identifier: GPL-3.0-or-later
#include "drawer.h"

#include <QApplication>
#include <QVBoxLayout>
#include <algorithm>

#include "advice_page.h"
#include "app/selection/selection.h"
#include "app/theme/theme.h"
#include "cores_page.h"
#include "counters_page.h"
#include "coverage_page.h"
#include "events_page.h"
#include "frames_page.h"
#include "instant_page.h"
#include "marker_page.h"
#include "markers_page.h"
#include "memory_page.h"
#include "notes_page.h"
#include "operations_page.h"
#include "search_page.h"
#include "source_page.h"
#include "stacks_page.h"
#include "waits_page.h"

namespace fugato {

namespace {

using MakePage = DrawerPage* (*)(Document&, Selection&);
template <class Page>
DrawerPage* make(Document& document, Selection& selection) {
    return new Page(document, selection);
}
constexpr MakePage kPages[] = {make<MarkersPage>,  make<MarkerPage>,   make<EventsPage>,  make<StacksPage>,
                               make<SourcePage>,   make<FramesPage>,   make<WaitsPage>,   make<OperationsPage>,
                               make<CountersPage>, make<CoresPage>,    make<InstantPage>, make<MemoryPage>,
                               make<SearchPage>,   make<CoveragePage>, make<AdvicePage>,  make<NotesPage>};

QString aboutText(DrawerPage::About about) {
    switch (about) {
        case DrawerPage::About::Scope: return Drawer::tr("what is looked at");
        case DrawerPage::About::Marker: return Drawer::tr("the selected marker, in what is looked at");
        case DrawerPage::About::Instant: return Drawer::tr("the chosen instant");
        default: return Drawer::tr("the whole recording");
    }
}

}  // namespace

Drawer::Drawer(Document& document, Selection& selection, QWidget* parent)
    : QWidget(parent),
      document_(document),
      selection_(selection),
      tabs_(new QTabBar(this)),
      stack_(new QStackedWidget(this)) {
    tabs_->setFont(smallBoldFont());
    tabs_->setDrawBase(false);
    tabs_->setExpanding(false);
    tabs_->setAccessibleName(tr("Tables below the lanes"));
    for (const MakePage one : kPages) {
        pages_ << one(document, selection);
        stack_->addWidget(pages_.back());
        connect(pages_.back(), &DrawerPage::pageWanted, this, &Drawer::show);
        const QString group = pages_.back()->words().group;
        if (!lastOf_.contains(group)) lastOf_[group] = static_cast<int>(pages_.size()) - 1;
    }
    fillTabs();
    auto* all = new QVBoxLayout(this);
    all->setContentsMargins(0, 0, 0, 0);
    all->setSpacing(0);
    all->addWidget(tabs_);
    all->addWidget(stack_, 1);
    connect(tabs_, &QTabBar::currentChanged, this, [this](int tab) {
        if (tab < 0) return;
        showPage(tabs_->tabData(tab).toInt());
        QMetaObject::invokeMethod(this, &Drawer::fillTabs, Qt::QueuedConnection);  // not while the click is in hand
    });
    connect(&selection, &Selection::siteChanged, this, [this, &selection] {
        // Who goes through a list stays on its page.
        const QWidget* focus = QApplication::focusWidget();
        const bool here = focus && isAncestorOf(focus);
        if (selection.site() != kNone && !here && shown() == "markers") show("marker");
    });
    connect(&selection, &Selection::rangeChanged, this, [this, &selection] {
        if (selection.range() && !current().speaksOfScope()) show("markers");
    });
}

/// The pages of the group in sight, and the other groups.
void Drawer::fillTabs() {
    const QSignalBlocker quiet(tabs_);
    const bool focus = tabs_->hasFocus();
    while (tabs_->count()) tabs_->removeTab(0);
    const QString open = current().words().group;
    QString before;
    for (int at = 0; at < pages_.size(); ++at) {
        const DrawerPage::Words words = pages_[at]->words();
        if (words.group == open) {
            const int tab = tabs_->addTab(words.tab);
            tabs_->setTabData(tab, at);
            tabs_->setTabToolTip(tab, tr("%1\nAbout: %2").arg(words.help, aboutText(words.about)));
            if (pages_[at] == stack_->currentWidget()) tabs_->setCurrentIndex(tab);
        } else if (words.group != before) {
            const int tab = tabs_->addTab(words.group + " ▸");
            tabs_->setTabData(tab, lastOf_[words.group]);
            tabs_->setTabTextColor(tab, theme().muted);
            QStringList names;
            for (const DrawerPage* page : pages_)
                if (page->words().group == words.group) names << page->words().tab;
            tabs_->setTabToolTip(tab, names.join(", "));
        }
        before = words.group;
    }
    if (focus) tabs_->setFocus();
}

void Drawer::showPage(int at) {
    if (stack_->currentIndex() == at) return;
    lastOf_[pages_[at]->words().group] = at;
    stack_->setCurrentIndex(at);
    emit shownChanged();
}

QStringList Drawer::groups() const {
    QStringList names;
    for (const DrawerPage* page : pages_) names << page->words().group;
    names.removeDuplicates();
    return names;
}

void Drawer::showGroup(const QString& group) {
    int at = lastOf_.value(group, -1);
    if (at < 0) return;
    if (current().words().group == group) {
        ++at;
        if (at == pages_.size() || pages_[at]->words().group != group)
            for (at = 0; pages_[at]->words().group != group;) ++at;
    }
    showPage(at);
    fillTabs();
}

DrawerPage& Drawer::current() const { return *pages_[stack_->currentIndex()]; }

bool Drawer::show(const QString& id) {
    for (int at = 0; at < pages_.size(); ++at)
        if (pages_[at]->words().id == id) {
            showPage(at);
            fillTabs();
            return true;
        }
    return false;
}

QString Drawer::shown() const { return current().words().id; }

DrawerPage* Drawer::anotherPage(const QString& id) const {
    for (int at = 0; at < pages_.size(); ++at)
        if (pages_[at]->words().id == id) return kPages[at](document_, selection_);
    return nullptr;
}

bool Drawer::busy() const {
    return std::any_of(pages_.begin(), pages_.end(), [](const DrawerPage* page) { return page->busy(); });
}

void Drawer::search(const QString& words) {
    show("search");
    page<SearchPage>().search(words);
}

}  // namespace fugato
