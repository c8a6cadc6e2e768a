// SPDX-License-Identifier: GPL-3.0-or-later
#include "start_page.h"

#include <QApplication>
#include <QDir>
#include <QFileInfo>
#include <QHBoxLayout>
#include <QLabel>
#include <QPushButton>
#include <QScrollArea>
#include <QVBoxLayout>

#include "app/settings/settings.h"
#include "app/theme/theme.h"
#include "app/theme/words.h"
#include "session/recordings_folder.h"

namespace fugato {

namespace {

constexpr int kMostListed = 200;

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

StartPage::StartPage(QWidget* parent) : QWidget(parent), list_(new QVBoxLayout), form_(new StartForm) {
    auto* open = new QPushButton(tr("&Open a recording…"));
    auto* demo = new QPushButton(tr("Open the &demo"));
    demo->setVisible(!demoRecording().isEmpty());
    connect(open, &QPushButton::clicked, this, &StartPage::openWanted);
    connect(demo, &QPushButton::clicked, this, [this] { emit recordingWanted(demoRecording()); });
    connect(form_, &StartForm::started, this, &StartPage::programWanted);
    setFocusProxy(form_);

    auto* left = new QVBoxLayout;
    left->setSpacing(10);
    left->addWidget(heading(tr("Recordings")));
    auto* listed = new QWidget;
    list_->setContentsMargins(0, 0, 8, 0);
    list_->setSpacing(6);
    auto* column = new QVBoxLayout(listed);
    column->setContentsMargins(0, 0, 0, 0);
    column->addLayout(list_);
    column->addStretch(1);
    auto* scrolled = new QScrollArea;
    scrolled->setWidget(listed);
    scrolled->setWidgetResizable(true);
    scrolled->setFrameShape(QFrame::NoFrame);
    scrolled->setFocusPolicy(Qt::NoFocus);
    left->addWidget(scrolled, 1);
    auto* right = new QVBoxLayout;
    right->setSpacing(10);
    right->addWidget(heading(tr("Start a program and record it")));
    right->addWidget(form_);
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
    all->addLayout(right, 2);
}

void StartPage::showEvent(QShowEvent*) { fill(); }

/// What is asked about recordings would take from a program that is started.
void StartPage::hideEvent(QHideEvent*) {
    looking_.silence();
    asking_.silence();
}

void StartPage::fill() {
    asking_.silence();
    looking_.ask(
        [opened = settings::recentFiles().get()](const Progress&) {
            QStringList paths;
            if (const auto folder = recordingsFolder())
                for (const QFileInfo& file :
                     QDir(toQString(*folder)).entryInfoList({"*.fugato"}, QDir::Files, QDir::Time))
                    if (paths.size() < kMostListed) paths << file.absoluteFilePath();
            for (const QString& path : opened)
                if (!paths.contains(path)) paths << path;
            std::stable_sort(paths.begin(), paths.end(), [](const QString& a, const QString& b) {
                return QFileInfo(a).lastModified() > QFileInfo(b).lastModified();
            });
            return std::make_shared<const QStringList>(paths);
        },
        [this](const std::shared_ptr<const QStringList>& paths) { show(*paths); });
}

void StartPage::show(const QStringList& recordings) {
    while (const QLayoutItem* item = list_->takeAt(0)) {
        delete item->widget();
        delete item;
    }
    cards_.clear();
    for (const QString& path : recordings) {
        auto* card = new RecordingCard(path);
        connect(card, &QAbstractButton::clicked, this, [this, path] { emit recordingWanted(path); });
        list_->addWidget(card);
        cards_ << card;
    }
    if (recordings.isEmpty()) list_->addWidget(lesser(tr("None yet. Start a program at the right, or open the demo.")));
    askForNext();
}

/// One after another, from the newest on.
void StartPage::askForNext() {
    const auto next = std::find_if(cards_.begin(), cards_.end(), [](RecordingCard* card) { return !card->hasFacts(); });
    if (next == cards_.end() || !isVisible()) return;
    RecordingCard* const card = *next;
    if (takesLong(card->path())) {
        auto large = std::make_shared<RecordingFacts>();
        large->trouble = tr("Large: open it to see what it holds.");
        card->setFacts(large);
        return askForNext();
    }
    asking_.ask([path = card->path()](const Progress& progress) { return recordingFacts(path, progress); },
                [this, card](const std::shared_ptr<const RecordingFacts>& facts) {
                    card->setFacts(facts);
                    askForNext();
                });
}

}  // namespace fugato
