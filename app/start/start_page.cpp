// SPDX-License-Identifier: GPL-3.0-or-later
#include "start_page.h"

#include <QApplication>
#include <QDir>
#include <QFileInfo>
#include <QHBoxLayout>
#include <QLabel>
#include <QPushButton>
#include <QVBoxLayout>

#include "app/parts/scrolled.h"
#include "app/settings/settings.h"
#include "app/theme/theme.h"
#include "app/theme/words.h"
#include "session/recordings_folder.h"

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

}  // namespace

QString StartPage::demoRecording() {
    const QString beside = QApplication::applicationDirPath() + "/../";
    for (const char* place : {"demo/skerry-regatta.fugato", "share/fugato/skerry-regatta.fugato"})
        if (const QFileInfo file(beside + place); file.isFile()) return file.canonicalFilePath();
    return {};
}

StartPage::StartPage(QWidget* parent)
    : QWidget(parent),
      list_(new RecordingList),
      form_(new StartForm),
      running_(new RunningList(tr("None offers itself. Programs that are started from here, or with FUGATO_OFFER=1 in "
                                  "their environment, appear here and can be joined."))) {
    auto* open = new QPushButton(tr("&Open a recording…"));
    auto* demo = new QPushButton(tr("Open the &demo"));
    demo->setVisible(!demoRecording().isEmpty());
    connect(open, &QPushButton::clicked, this, &StartPage::openWanted);
    connect(demo, &QPushButton::clicked, this, [this] { emit recordingWanted(demoRecording()); });
    connect(list_, &RecordingList::recordingWanted, this, &StartPage::recordingWanted);
    connect(form_, &StartForm::started, this, &StartPage::programWanted);
    connect(running_, &RunningList::chosen, this, &StartPage::joinWanted);
    connect(running_, &RunningList::recordingWanted, this, &StartPage::recordingWanted);
    setFocusProxy(form_);

    auto* left = new QVBoxLayout;
    left->setSpacing(10);
    left->addWidget(heading(tr("Recordings")));
    left->addWidget(list_, 1);
    auto* doing = new QWidget;
    auto* right = new QVBoxLayout(doing);
    right->setContentsMargins(0, 0, 8, 0);
    right->setSpacing(10);
    right->addWidget(heading(tr("Start a program and record it")));
    right->addWidget(form_);
    right->addSpacing(14);
    right->addWidget(heading(tr("Running programs")));
    right->addWidget(running_);
    right->addSpacing(14);
    right->addWidget(heading(tr("Open")));
    auto* line = new QHBoxLayout;
    line->addWidget(open, 1);
    line->addWidget(demo, 1);
    right->addLayout(line);
    auto* about = lesser(
        tr("A file can be dropped here as well. The demo is a made-up boat race of two and a half minutes with seven "
           "planted troubles; it opens with the costliest one explained."));
    right->addWidget(about);
    right->addStretch(1);
    auto* all = new QHBoxLayout(this);
    all->setContentsMargins(24, 20, 24, 20);
    all->setSpacing(40);
    all->addLayout(left, 3);
    all->addWidget(scrolled(doing), 2);
}

void StartPage::showEvent(QShowEvent*) { list_->fill(); }

}  // namespace fugato
