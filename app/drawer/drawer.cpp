// SPDX-License-Identifier: GPL-3.0-or-later
#include "drawer.h"

#include <QVBoxLayout>
#include <algorithm>

#include "app/selection/selection.h"
#include "app/theme/theme.h"

namespace fugato {

Drawer::Drawer(Document& document, Selection& selection, QWidget* parent)
    : QWidget(parent),
      tabs_(new QTabBar(this)),
      stack_(new QStackedWidget(this)),
      frame_(new FramePage(document, selection)),
      stretch_(new StretchPage(document, selection)),
      marker_(new MarkerPage(document, selection)),
      found_(new FoundPage(document, selection)),
      advice_(new AdvicePage(document, selection)) {
    pages_ = {frame_, stretch_, marker_, found_, advice_};
    tabs_->setFont(smallBoldFont());
    tabs_->setDrawBase(false);
    tabs_->setExpanding(false);
    tabs_->setAccessibleName(tr("Tables below the lanes"));
    for (DrawerPage* page : pages_) {
        const DrawerPage::Words words = page->words();
        stack_->addWidget(page);
        const int at = tabs_->addTab(words.tab);
        tabs_->setTabToolTip(at, tr("%1 (Ctrl+%2)").arg(words.help).arg(at + 1));
    }
    auto* all = new QVBoxLayout(this);
    all->setContentsMargins(0, 0, 0, 0);
    all->setSpacing(0);
    all->addWidget(tabs_);
    all->addWidget(stack_, 1);
    connect(tabs_, &QTabBar::currentChanged, stack_, &QStackedWidget::setCurrentIndex);
    connect(&selection, &Selection::siteChanged, this, [this, &selection] {
        if (selection.site() == kNone || shown() == kFound || shown() == kAdvice) return;  // one goes through a list
        show(kMarker);
    });
    connect(&selection, &Selection::stretchChanged, this, [this, &selection] {
        if (selection.stretch()) show(kStretch);
    });
}

void Drawer::show(Page page) { tabs_->setCurrentIndex(page); }

bool Drawer::busy() const {
    return std::any_of(pages_.begin(), pages_.end(), [](const DrawerPage* page) { return page->busy(); });
}

void Drawer::search(const QString& words) {
    show(kFound);
    found_->search(words);
}

}  // namespace fugato
