// SPDX-License-Identifier: GPL-3.0-or-later
#include "start_page.h"

#include <QApplication>
#include <QDateTime>
#include <QFileInfo>
#include <QHBoxLayout>
#include <QLabel>
#include <QPushButton>
#include <QVBoxLayout>

#include "app/settings/settings.h"
#include "app/theme/theme.h"
#include "app/theme/words.h"

namespace fugato {

namespace {

QLabel* heading(const QString& words) {
    auto* label = plainLabel(words);
    label->setFont(titleFont());
    return label;
}

QLabel* lesser(const QString& words) {
    auto* label = plainLabel(words);
    label->setObjectName("lesser");
    label->setWordWrap(true);
    return label;
}

/// "/home/ines/games · 27 Nov 2026, 16:20 · 12.3 MB".
QString factsOf(const QFileInfo& file) {
    return StartPage::tr("%1 · %2 · %3 MB")
        .arg(shown(file.absolutePath()), file.lastModified().toString("d MMM yyyy, hh:mm"),
             QString::number(static_cast<double>(file.size()) / 1e6, 'f', 1));
}

}  // namespace

QString StartPage::demoRecording() {
    const QString beside = QApplication::applicationDirPath() + "/../";
    for (const char* place : {"demo/skerry-regatta.fugato", "share/fugato/skerry-regatta.fugato"})
        if (const QFileInfo file(beside + place); file.isFile()) return file.canonicalFilePath();
    return {};
}

StartPage::StartPage(QWidget* parent) : QWidget(parent), recent_(new QVBoxLayout) {
    auto* open = new QPushButton(tr("&Open a recording…"));
    auto* demo = new QPushButton(tr("Open the &demo"));
    open->setObjectName("primary");
    demo->setVisible(!demoRecording().isEmpty());
    connect(open, &QPushButton::clicked, this, &StartPage::openWanted);
    connect(demo, &QPushButton::clicked, this, [this] { emit recordingWanted(demoRecording()); });
    setFocusProxy(open);

    auto* left = new QVBoxLayout;
    left->setSpacing(10);
    left->addWidget(heading(tr("Recent recordings")));
    recent_->setSpacing(6);
    left->addLayout(recent_);
    left->addStretch(1);
    auto* right = new QVBoxLayout;
    right->setSpacing(10);
    right->addWidget(heading(tr("Open")));
    right->addWidget(open);
    right->addWidget(
        lesser(tr("Or drop a file here. Programs that link Fugato's recorder write .fugato files; a .jsonl "
                  "file is the same as text.")));
    right->addWidget(demo);
    auto* about = lesser(
        tr("The demo is a made-up boat race of two and a half minutes with seven planted troubles. It opens with "
           "the costliest one explained."));
    about->setVisible(demo->isVisibleTo(this));
    right->addWidget(about);
    right->addStretch(1);
    auto* all = new QHBoxLayout(this);
    all->setContentsMargins(24, 20, 24, 20);
    all->setSpacing(40);
    all->addLayout(left, 3);
    all->addLayout(right, 2);
}

void StartPage::showEvent(QShowEvent*) { fill(); }

void StartPage::fill() {
    while (const QLayoutItem* item = recent_->takeAt(0)) {
        delete item->widget();
        delete item;
    }
    const QStringList paths = settings::recentFiles().get();
    for (const QString& path : paths) {
        const QFileInfo file(path);
        auto* card = new QPushButton;
        card->setObjectName("card");
        card->setText(shown(file.fileName()).replace("&", "&&") + "\n" +
                      (file.isFile() ? factsOf(file) : tr("%1 · no longer there").arg(shown(file.absolutePath())))
                          .replace("&", "&&"));
        card->setAccessibleName(shown(file.fileName()));
        card->setEnabled(file.isFile());
        connect(card, &QPushButton::clicked, this, [this, path] { emit recordingWanted(path); });
        recent_->addWidget(card);
    }
    if (paths.isEmpty()) recent_->addWidget(lesser(tr("None yet.")));
}

}  // namespace fugato
