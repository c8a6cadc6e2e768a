// SPDX-License-Identifier: GPL-3.0-or-later
#include "recording_list.h"

#include <QDialog>
#include <QDialogButtonBox>
#include <QDir>
#include <QFileInfo>
#include <QFormLayout>
#include <QHBoxLayout>
#include <QPlainTextEdit>
#include <QSpinBox>
#include <QStorageInfo>
#include <QVBoxLayout>

#include "app/parts/scrolled.h"
#include "app/settings/settings.h"
#include "app/theme/theme.h"
#include "app/theme/words.h"
#include "core/explain/words/quantities.h"
#include "session/recordings_folder.h"

namespace fugato {

namespace {

constexpr int kMostListed = 500, kUsualDays = 30;
constexpr qint64 kLittleRoom = 2'000'000'000;

QString countOf(qsizetype count) { return toQString(plural(static_cast<uint64_t>(count), "recording", "recordings")); }

QString ownFolder() {
    const auto folder = recordingsFolder();
    return folder ? toQString(*folder) : QString();
}

}  // namespace

RecordingList::RecordingList(QWidget* parent)
    : QWidget(parent),
      list_(new QVBoxLayout),
      search_(new QLineEdit),
      none_(plainLabel()),
      room_(plainLabel()),
      said_(plainLabel()),
      undo_(new QPushButton(tr("&Undo"))),
      thin_(new QPushButton(tr("&Thin out…"))) {
    search_->setPlaceholderText(tr("Search: program, cause, tag, note…"));
    search_->setAccessibleName(tr("Search recordings"));
    search_->setClearButtonEnabled(true);
    for (QLabel* label : {none_, room_, said_}) {
        label->setObjectName("lesser");
        label->setWordWrap(true);
    }
    list_->setContentsMargins(0, 0, 8, 0);
    list_->setSpacing(6);
    auto* listed = new QWidget;
    auto* column = new QVBoxLayout(listed);
    column->setContentsMargins(0, 0, 0, 0);
    column->addWidget(none_);
    column->addLayout(list_);
    column->addStretch(1);
    auto* binned = new QHBoxLayout;
    binned->addWidget(said_, 1);
    binned->addWidget(undo_);
    auto* below = new QHBoxLayout;
    below->addWidget(room_, 1);
    below->addWidget(thin_);
    auto* all = new QVBoxLayout(this);
    all->setContentsMargins(0, 0, 0, 0);
    all->setSpacing(8);
    all->addWidget(search_);
    all->addWidget(scrolled(listed), 1);
    all->addLayout(binned);
    all->addLayout(below);
    said_->hide();
    undo_->hide();
    thin_->hide();
    connect(search_, &QLineEdit::textChanged, this, &RecordingList::filter);
    connect(search_, &QLineEdit::returnPressed, this, [this] {
        for (RecordingCard* card : cards_)
            if (!card->isHidden()) return card->click();
    });
    connect(undo_, &QPushButton::clicked, this, &RecordingList::undoToBin);
    connect(thin_, &QPushButton::clicked, this, &RecordingList::askToThinOut);
}

/// What is asked about recordings would take from a program that is started.
void RecordingList::hideEvent(QHideEvent*) {
    looking_.silence();
    asking_.silence();
}

void RecordingList::fill() {
    asking_.silence();
    looking_.ask(
        [opened = settings::recentFiles().get()](const Progress&) {
            QStringList paths;
            if (const QString folder = ownFolder(); !folder.isEmpty())
                for (const QFileInfo& file : QDir(folder).entryInfoList({"*.fugato"}, QDir::Files, QDir::Time))
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

void RecordingList::show(const QStringList& recordings) {
    while (const QLayoutItem* item = list_->takeAt(0)) {
        delete item->widget();
        delete item;
    }
    cards_.clear();
    for (const QString& path : recordings) {
        auto* card = new RecordingCard(path);
        connect(card, &QAbstractButton::clicked, this, [this, path] { emit recordingWanted(path); });
        connect(card, &RecordingCard::describeWanted, this, [this, card] { describe(card); });
        connect(
            card, &RecordingCard::binWanted, this, [this, card] { toBin({card}); }, Qt::QueuedConnection);
        list_->addWidget(card);
        cards_ << card;
    }
    filter();
    tellRoom();
    askForNext();
}

/// One after another, from the newest on.
void RecordingList::askForNext() {
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
                    filter();
                    askForNext();
                });
}

void RecordingList::filter() {
    const QStringList words = search_->text().split(' ', Qt::SkipEmptyParts);
    int seen = 0;
    for (RecordingCard* card : cards_) {
        const bool fits = card->holds(words);
        card->setVisible(fits);
        seen += fits;
    }
    none_->setVisible(!seen);
    none_->setText(cards_.isEmpty() ? tr("None yet. Start a program at the right, or open the demo.")
                                    : tr("No recording holds “%1”.").arg(search_->text().trimmed()));
    search_->setVisible(!cards_.isEmpty());
}

void RecordingList::tellRoom() {
    qint64 bytes = 0;
    int own = 0;
    const QString folder = ownFolder();
    for (const RecordingCard* card : cards_)
        if (QFileInfo(card->path()).absolutePath() == folder) {
            bytes += card->bytes();
            ++own;
        }
    thin_->setVisible(own > 0);
    const QStorageInfo disk(folder);
    QString text = own ? tr("%1 in your folder, %2").arg(countOf(own), sizeText(bytes)) : QString();
    if (own && disk.isValid()) text += tr("; %1 free on its disk").arg(sizeText(disk.bytesAvailable()));
    if (disk.isValid() && disk.bytesAvailable() < kLittleRoom)
        text += (text.isEmpty() ? "" : ". ") +
                tr("There is little room: a recording that no longer fits ends, or goes on in memory.");
    room_->setText(text);
}

void RecordingList::describe(RecordingCard* card) {
    if (!card->hasFacts() || card->facts()->id.isEmpty()) return;
    const RecordingNote before = card->note();
    QDialog dialog(this);
    dialog.setWindowTitle(tr("Name, tags and note"));
    auto* name = new QLineEdit(before.name);
    auto* tags = new QLineEdit(before.tags.join(", "));
    auto* note = new QPlainTextEdit(before.note);
    name->setPlaceholderText(card->facts()->program);
    tags->setPlaceholderText(tr("words, separated by commas"));
    note->setTabChangesFocus(true);
    note->setPlaceholderText(tr("why it was made, what was tried"));
    auto* form = new QFormLayout(&dialog);
    form->setFieldGrowthPolicy(QFormLayout::AllNonFixedFieldsGrow);
    const std::pair<QString, QWidget*> fields[] = {{tr("&Name"), name}, {tr("&Tags"), tags}, {tr("N&ote"), note}};
    for (const auto& [words, field] : fields) {
        auto* label = plainLabel(words);
        label->setBuddy(field);
        field->setAccessibleName(QString(words).remove('&'));
        form->addRow(label, field);
    }
    auto* buttons = new QDialogButtonBox(QDialogButtonBox::Ok | QDialogButtonBox::Cancel);
    form->addRow(buttons);
    connect(buttons, &QDialogButtonBox::accepted, &dialog, &QDialog::accept);
    connect(buttons, &QDialogButtonBox::rejected, &dialog, &QDialog::reject);
    dialog.resize(480, 260);
    if (dialog.exec() != QDialog::Accepted) return;
    const RecordingNote now{name->text().simplified(), note->toPlainText().trimmed(), tagsIn(tags->text())};
    if (now == before) return;
    if (!keepNote(card->facts()->id, now)) {
        said_->setText(tr("What you wrote cannot be kept: the data folder cannot be written."));
        said_->show();
        return;
    }
    auto facts = std::make_shared<RecordingFacts>(*card->facts());
    facts->note = now;
    card->setFacts(facts);
    filter();
}

void RecordingList::toBin(const QList<RecordingCard*>& cards) {
    QList<std::pair<QString, QString>> moved;
    QString trouble;
    for (const RecordingCard* card : cards) {
        if (card->growing()) {
            trouble = tr("%1 is still being recorded.").arg(card->title());
            continue;
        }
        QString now;
        if (QFile::moveToTrash(card->path(), &now))
            moved << std::pair(card->path(), now);
        else
            trouble = tr("%1 cannot be moved to the bin; its disk may have none.").arg(shown(card->path()));
    }
    QString words = trouble;
    if (!moved.isEmpty()) {
        binned_ = moved;
        words = (moved.size() == 1 ? tr("%1 is in the bin.").arg(shown(QFileInfo(moved[0].first).fileName()))
                                   : tr("%1 are in the bin.").arg(countOf(moved.size()))) +
                (trouble.isEmpty() ? QString() : " " + trouble);
    }
    said_->setText(words);
    said_->setVisible(!words.isEmpty());
    undo_->setVisible(!binned_.isEmpty());
    fill();
}

void RecordingList::undoToBin() {
    QString trouble;
    for (const auto& [was, is] : std::exchange(binned_, {})) {
        // As the desktop's bin has it: what tells where it came from lies beside it.
        if (QFile::exists(was) || !QFile::rename(is, was)) {
            trouble = tr("%1 cannot be taken out of the bin again.").arg(shown(QFileInfo(was).fileName()));
            continue;
        }
        const QFileInfo file(is);
        QFile::remove(file.absolutePath() + "/../info/" + file.fileName() + ".trashinfo");
    }
    said_->setText(trouble);
    said_->setVisible(!trouble.isEmpty());
    undo_->hide();
    fill();
}

QList<RecordingCard*> RecordingList::olderThan(int days) const {
    QList<RecordingCard*> old;
    const QString folder = ownFolder();
    const QDateTime limit = QDateTime::currentDateTime().addDays(-days);
    for (RecordingCard* card : cards_)
        if (card->hasFacts() && card->note().empty() && !card->growing() && card->bytes() > 0 &&
            card->modified() < limit && QFileInfo(card->path()).absolutePath() == folder)
            old << card;
    return old;
}

void RecordingList::askToThinOut() {
    QDialog dialog(this);
    dialog.setWindowTitle(tr("Thin out recordings"));
    auto* days = new QSpinBox;
    days->setRange(0, 3650);
    days->setValue(kUsualDays);
    days->setSuffix(tr(" days"));
    days->setAccessibleName(tr("Days"));
    auto* told = plainLabel();
    told->setWordWrap(true);
    auto* buttons = new QDialogButtonBox(QDialogButtonBox::Cancel);
    auto* go = buttons->addButton(tr("Move them to the &bin"), QDialogButtonBox::AcceptRole);
    auto* lines = new QVBoxLayout(&dialog);
    auto* line = new QHBoxLayout;
    line->addWidget(plainLabel(tr("Recordings older than")));
    line->addWidget(days);
    line->addStretch(1);
    lines->addLayout(line);
    lines->addWidget(told);
    lines->addStretch(1);
    lines->addWidget(buttons);
    const auto tell = [&] {
        const QList<RecordingCard*> old = olderThan(days->value());
        qint64 bytes = 0;
        for (const RecordingCard* card : old) bytes += card->bytes();
        told->setText((old.isEmpty() ? tr("There is none.") : tr("%1, %2.").arg(countOf(old.size()), sizeText(bytes))) +
                      " " + tr("Those with a name, a tag or a note of yours stay."));
        go->setEnabled(!old.isEmpty());
    };
    tell();
    connect(days, &QSpinBox::valueChanged, &dialog, tell);
    connect(buttons, &QDialogButtonBox::accepted, &dialog, &QDialog::accept);
    connect(buttons, &QDialogButtonBox::rejected, &dialog, &QDialog::reject);
    dialog.resize(440, 150);
    if (dialog.exec() == QDialog::Accepted) toBin(olderThan(days->value()));
}

}  // namespace fugato
