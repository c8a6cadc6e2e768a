// SPDX-License-Identifier: GPL-3.0-or-later
#include "drawer.h"

#include <QApplication>
#include <QVBoxLayout>
#include <algorithm>

#include "advice_page.h"
#include "app/selection/selection.h"
#include "app/theme/theme.h"
#include "frame_page.h"
#include "marker_page.h"
#include "search_page.h"
#include "selection_page.h"
#include "stacks_page.h"

namespace fugato {

namespace {

QString scopeText(DrawerPage::Scope scope) {
    switch (scope) {
        case DrawerPage::Scope::Frame: return Drawer::tr("the selected frame");
        case DrawerPage::Scope::Selection: return Drawer::tr("the selected time, or the time in view");
        case DrawerPage::Scope::Marker: return Drawer::tr("the selected marker");
        default: return Drawer::tr("the whole recording");
    }
}

}  // namespace

Drawer::Drawer(Document& document, Selection& selection, QWidget* parent)
    : QWidget(parent), tabs_(new QTabBar(this)), stack_(new QStackedWidget(this)) {
    pages_ = {new FramePage(document, selection),  new SelectionPage(document, selection),
              new MarkerPage(document, selection), new SearchPage(document, selection),
              new AdvicePage(document, selection), new StacksPage(document, selection)};
    tabs_->setFont(smallBoldFont());
    tabs_->setDrawBase(false);
    tabs_->setExpanding(false);
    tabs_->setAccessibleName(tr("Tables below the lanes"));
    for (DrawerPage* page : pages_) {
        const DrawerPage::Words words = page->words();
        stack_->addWidget(page);
        const int at = tabs_->addTab(words.tab);
        tabs_->setTabToolTip(at, tr("%1 (Ctrl+%2)\nAbout: %3").arg(words.help).arg(at + 1).arg(scopeText(words.scope)));
    }
    auto* all = new QVBoxLayout(this);
    all->setContentsMargins(0, 0, 0, 0);
    all->setSpacing(0);
    all->addWidget(tabs_);
    all->addWidget(stack_, 1);
    connect(tabs_, &QTabBar::currentChanged, this, [this](int at) {
        stack_->setCurrentIndex(at);
        emit shownChanged();
    });
    connect(&selection, &Selection::siteChanged, this, [this, &selection] {
        // Who goes through a list stays on its page.
        const QWidget* focus = QApplication::focusWidget();
        const bool here = focus && isAncestorOf(focus);
        if (selection.site() != kNone && !here && shown() != "search" && shown() != "advice" && shown() != "stacks")
            show("marker");
    });
    connect(&selection, &Selection::rangeChanged, this, [this, &selection] {
        if (selection.range() && shown() != "stacks") show("selection");
    });
}

DrawerPage& Drawer::current() const { return *pages_[tabs_->currentIndex()]; }

bool Drawer::show(const QString& id) {
    for (int at = 0; at < pages_.size(); ++at)
        if (pages_[at]->words().id == id) {
            tabs_->setCurrentIndex(at);
            return true;
        }
    return false;
}

QString Drawer::shown() const { return current().words().id; }

bool Drawer::busy() const {
    return std::any_of(pages_.begin(), pages_.end(), [](const DrawerPage* page) { return page->busy(); });
}

void Drawer::search(const QString& words) {
    show("search");
    page<SearchPage>().search(words);
}

}  // namespace fugato
