// SPDX-License-Identifier: GPL-3.0-or-later
#include "drawer.h"

#include <QVBoxLayout>

#include "app/selection/selection.h"
#include "app/theme/theme.h"

namespace fugato {

Drawer::Drawer(Document& document, Selection& selection, QWidget* parent)
    : QWidget(parent),
      tabs_(new QTabBar(this)),
      pages_(new QStackedWidget(this)),
      frame_(new FramePage(document, selection)),
      stretch_(new StretchPage(document, selection)),
      marker_(new MarkerPage(document, selection)),
      found_(new FoundPage(document, selection)),
      advice_(new AdvicePage(document, selection)) {
    tabs_->setFont(smallBoldFont());
    tabs_->setDrawBase(false);
    tabs_->setExpanding(false);
    tabs_->setAccessibleName(tr("Tables below the lanes"));
    const auto add = [this](QWidget* page, const QString& name, const QString& what) {
        pages_->addWidget(page);
        tabs_->setTabToolTip(tabs_->addTab(name), what);
    };
    add(frame_, tr("Frame"), tr("The chosen frame's markers against usual ones (Ctrl+1)"));
    add(stretch_, tr("Stretch"), tr("Everything nested in the chosen stretch of time, or in what is in view (Ctrl+2)"));
    add(marker_, tr("Marker"), tr("How often and how long the chosen marker runs, its longest occurrences (Ctrl+3)"));
    add(found_, tr("Found"), tr("What the search found (Ctrl+4)"));
    add(advice_, tr("Advice"), tr("Findings beyond single spikes, and what to look at next (Ctrl+5)"));
    auto* all = new QVBoxLayout(this);
    all->setContentsMargins(0, 0, 0, 0);
    all->setSpacing(0);
    all->addWidget(tabs_);
    all->addWidget(pages_, 1);
    connect(tabs_, &QTabBar::currentChanged, pages_, &QStackedWidget::setCurrentIndex);
    connect(&selection, &Selection::siteChanged, this, [this, &selection] {
        if (selection.site() == kNone || shown() == kFound || shown() == kAdvice) return;  // one goes through a list
        show(kMarker);
    });
    connect(&selection, &Selection::stretchChanged, this, [this, &selection] {
        if (selection.stretch()) show(kStretch);
    });
}

void Drawer::show(Page page) { tabs_->setCurrentIndex(page); }

void Drawer::search(const QString& words) {
    show(kFound);
    found_->search(words);
}

}  // namespace fugato
