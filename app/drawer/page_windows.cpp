// SPDX-License-Identifier: GPL-3.0-or-later
#include "page_windows.h"

#include <QAction>
#include <QVBoxLayout>

#include "app/settings/settings.h"

namespace fugato {

PageWindows::PageWindows(Drawer& drawer, QWidget& window) : QObject(&window), drawer_(drawer), window_(window) {}

void PageWindows::open(const QString& id) {
    QWidget* const made = openAt(id, {});
    if (!made) return;
    made->resize(760, 460);
    made->show();
}

void PageWindows::openRemembered() {
    for (const QString& one : settings::pageWindows().get()) {
        const QStringList parts = one.split('|');
        if (QWidget* const made = openAt(parts.value(0), QByteArray::fromBase64(parts.value(1).toLatin1())))
            made->show();
    }
}

QWidget* PageWindows::openAt(const QString& id, const QByteArray& geometry) {
    DrawerPage* const page = drawer_.anotherPage(id);
    if (!page) return nullptr;
    auto* const made = new QWidget(&window_, Qt::Window);
    made->setAttribute(Qt::WA_DeleteOnClose);
    made->setWindowTitle(tr("%1 — Fugato").arg(page->words().tab));
    made->setAutoFillBackground(true);
    auto* const all = new QVBoxLayout(made);
    all->setContentsMargins(0, 4, 0, 0);
    all->addWidget(page);
    auto* const close = new QAction(tr("Close"), made);
    close->setShortcut(Qt::CTRL | Qt::Key_W);
    made->addAction(close);
    connect(close, &QAction::triggered, made, &QWidget::close);
    if (!geometry.isEmpty()) made->restoreGeometry(geometry);
    windows_ << made;
    pages_ << page;
    connect(made, &QObject::destroyed, this, [this, made] {
        const auto at = windows_.indexOf(made);
        windows_.removeAt(at);
        pages_.removeAt(at);
    });
    return made;
}

void PageWindows::remember() {
    QStringList open;
    for (qsizetype at = 0; at < windows_.size(); ++at)
        open << pages_[at]->words().id + "|" + QString::fromLatin1(windows_[at]->saveGeometry().toBase64());
    settings::pageWindows().set(open);
}

void PageWindows::closeAll() {
    for (QWidget* one : QList<QWidget*>(windows_)) delete one;
}

QList<DrawerPage*> PageWindows::pages() const { return pages_; }

bool PageWindows::busy() const {
    return std::any_of(pages_.begin(), pages_.end(), [](const DrawerPage* page) { return page->busy(); });
}

}  // namespace fugato
