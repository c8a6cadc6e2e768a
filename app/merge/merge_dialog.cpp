// SPDX-License-Identifier: GPL-3.0-or-later
#include "merge_dialog.h"

#include <QDialogButtonBox>
#include <QDir>
#include <QFileDialog>
#include <QFileInfo>
#include <QHBoxLayout>
#include <QVBoxLayout>
#include <memory>

#include "app/settings/settings.h"
#include "app/theme/words.h"
#include "format/merging.h"

namespace fugato {

MergeDialog::MergeDialog(const QString& first, QWidget* parent)
    : QDialog(parent),
      recordings_(new QListWidget),
      path_(new QLineEdit),
      told_(plainLabel()),
      progress_(new QProgressBar),
      merge_(new QPushButton(tr("&Merge"))) {
    setWindowTitle(tr("Merge recordings"));
    auto* lines = new QVBoxLayout(this);
    auto* about = plainLabel(
        tr("&Recordings of programs that ran on one machine at the same time, such as a game and its server. The first "
           "program keeps its names; before those of the others stands their program's name."));
    about->setWordWrap(true);
    about->setBuddy(recordings_);
    lines->addWidget(about);
    recordings_->setAccessibleName(tr("Recordings to merge"));
    recordings_->setDragDropMode(QAbstractItemView::InternalMove);
    recordings_->setTextElideMode(Qt::ElideMiddle);
    lines->addWidget(recordings_, 1);
    auto* add = new QPushButton(tr("&Add recordings…"));
    remove_ = new QPushButton(tr("Re&move"));
    auto* line = new QHBoxLayout;
    line->addWidget(add);
    line->addWidget(remove_);
    line->addStretch(1);
    lines->addLayout(line);
    auto* whereLabel = plainLabel(tr("&Write the merged recording to"));
    whereLabel->setBuddy(path_);
    path_->setAccessibleName(tr("Write the merged recording to"));
    auto* browse = new QPushButton(tr("&Browse…"));
    auto* where = new QHBoxLayout;
    where->addWidget(path_, 1);
    where->addWidget(browse);
    lines->addWidget(whereLabel);
    lines->addLayout(where);
    told_->setWordWrap(true);
    lines->addWidget(told_);
    progress_->setRange(0, 1000);
    progress_->setTextVisible(false);
    progress_->hide();
    lines->addWidget(progress_);
    auto* buttons = new QDialogButtonBox(QDialogButtonBox::Cancel);
    buttons->addButton(merge_, QDialogButtonBox::ActionRole);
    lines->addWidget(buttons);
    merge_->setDefault(true);
    connect(merge_, &QPushButton::clicked, this, &MergeDialog::merge);
    connect(buttons, &QDialogButtonBox::rejected, this, &MergeDialog::reject);
    connect(add, &QPushButton::clicked, this, &MergeDialog::askForRecordings);
    connect(remove_, &QPushButton::clicked, this, &MergeDialog::removeRecording);
    connect(browse, &QPushButton::clicked, this, &MergeDialog::askForPath);
    connect(path_, &QLineEdit::textChanged, this, &MergeDialog::checkAnew);
    connect(recordings_, &QListWidget::currentRowChanged, this, &MergeDialog::check);
    connect(recordings_->model(), &QAbstractItemModel::rowsMoved, this, &MergeDialog::suggestPath);
    connect(&merging_, &BackgroundQuery::progressed, this,
            [this](double part) { progress_->setValue(static_cast<int>(part * 1000)); });
    connect(&merging_, &BackgroundQuery::failed, this, [this](const QString& sentence) { trouble_ = sentence; });
    connect(&merging_, &BackgroundQuery::changed, this, &MergeDialog::check);
    if (!first.isEmpty()) addRecording(first);
    check();
    resize(620, 400);
}

void MergeDialog::addRecording(const QString& path) {
    if (files().contains(path)) return;
    auto* item = new QListWidgetItem(shown(QFileInfo(path).fileName()));
    item->setData(Qt::UserRole, path);
    item->setToolTip(plainTip(shown(path)));
    recordings_->addItem(item);
    recordings_->setCurrentItem(item);
    suggestPath();
}

void MergeDialog::removeRecording() {
    delete recordings_->currentItem();
    suggestPath();
}

QStringList MergeDialog::files() const {
    QStringList files;
    for (int row = 0; row < recordings_->count(); ++row) files << recordings_->item(row)->data(Qt::UserRole).toString();
    return files;
}

void MergeDialog::askForRecordings() {
    const QStringList chosen =
        QFileDialog::getOpenFileNames(this, tr("Recordings to merge"), settings::lastFolder().get(),
                                      tr("Recordings (*.fugato *.jsonl);;All files (*)"));
    for (const QString& path : chosen) addRecording(QFileInfo(path).absoluteFilePath());
}

void MergeDialog::askForPath() {
    const QString path =
        QFileDialog::getSaveFileName(this, tr("Write the merged recording to"), path_->text(),
                                     tr("Recordings (*.fugato *.jsonl)"), nullptr, QFileDialog::DontConfirmOverwrite);
    if (!path.isEmpty()) path_->setText(path);
}

/// A name from those of the parts, where the person wrote none.
void MergeDialog::suggestPath() {
    const QStringList all = files();
    if (path_->text() == suggested_ && all.size() > 1) {
        QStringList names;
        for (const QString& file : all) names << QFileInfo(file).completeBaseName();
        const QDir folder = QFileInfo(all.front()).dir();
        suggested_ = folder.filePath(names.join(" + ").left(120) + ".fugato");
        for (int number = 2; QFileInfo::exists(suggested_); ++number)
            suggested_ = folder.filePath(names.join(" + ").left(120) + " " + QString::number(number) + ".fugato");
        path_->setText(suggested_);
    }
    checkAnew();
}

/// Something is another than when merging failed.
void MergeDialog::checkAnew() {
    trouble_.clear();
    check();
}

void MergeDialog::check() {
    const bool works = merging_.busy();
    progress_->setVisible(works);
    remove_->setEnabled(!works && recordings_->currentItem());
    if (works) return merge_->setEnabled(false);
    const QString path = path_->text();
    QString why;  // nothing can be merged yet
    if (recordings_->count() < 2)
        why =
            recordings_->count() ? tr("Add the recording of another program.") : tr("Add a recording of each program.");
    else if (path.isEmpty())
        why = tr("Name the recording to write.");
    else if (QFileInfo::exists(path))
        why = tr("%1 is there already. Choose another name.").arg(shown(path));
    told_->setText(why.isEmpty() ? trouble_ : why);
    merge_->setEnabled(why.isEmpty());
}

void MergeDialog::merge() {
    const QString path = QFileInfo(path_->text()).absoluteFilePath();
    std::vector<std::string> parts;
    for (const QString& file : files()) parts.push_back(file.toStdString());
    using Answer = Result<std::vector<std::string>>;
    merging_.ask(
        [parts, out = path.toStdString()](const Progress& progress) -> std::shared_ptr<const Answer> {
            Answer merged = mergeRecordingFiles(parts, out, progress);
            if (!merged && merged.failure().cancelled) return nullptr;
            return std::make_shared<const Answer>(std::move(merged));
        },
        [this, path](const std::shared_ptr<const Answer>& merged) {
            if (!*merged) {
                trouble_ = toQString(merged->failure().sentence);
                return;
            }
            merged_.path = path;
            for (const std::string& note : **merged) merged_.notes << toQString(note);
            accept();
        });
    told_->setText(tr("Merging…"));
}

/// Escape and Cancel end the work first, and close the dialog where there is none.
void MergeDialog::reject() {
    if (!merging_.busy()) return QDialog::reject();
    merging_.silence();
    check();
}

}  // namespace fugato
