// SPDX-License-Identifier: GPL-3.0-or-later
#include "source_dialog.h"

#include <QDialogButtonBox>
#include <QFileDialog>
#include <QHBoxLayout>
#include <QHeaderView>
#include <QPushButton>
#include <QVBoxLayout>

#include "app/settings/settings.h"
#include "app/theme/words.h"

namespace fugato {

SourceDialog::SourceDialog(const QString& example, QWidget* parent)
    : QDialog(parent),
      example_(example),
      command_(new QComboBox),
      folders_(new QTableWidget(0, 2)),
      told_(plainLabel()) {
    setWindowTitle(tr("Source and editor"));
    auto* lines = new QVBoxLayout(this);
    auto* editor = plainLabel(tr("&Command of your editor, with {file}, {line} and {column}"));
    command_->setEditable(true);
    command_->setAccessibleName(tr("Command of your editor"));
    for (const Editor& one : installedEditors()) command_->addItem(one.command);
    command_->setEditText(editorCommand());
    editor->setBuddy(command_);
    lines->addWidget(editor);
    lines->addWidget(command_);
    auto* where = plainLabel(
        tr("&Folders with the source. A recording tells the paths of the machine that built the program: what such "
           "paths begin with there, and the folder here that stands for it. Where the first is empty, the folder is "
           "searched for the end of any path."));
    where->setWordWrap(true);
    where->setBuddy(folders_);
    lines->addWidget(where);
    folders_->setHorizontalHeaderLabels({tr("Begins there with"), tr("Folder here")});
    folders_->horizontalHeader()->setSectionResizeMode(QHeaderView::Stretch);
    folders_->verticalHeader()->hide();
    folders_->setAccessibleName(tr("Folders with the source"));
    folders_->setTabKeyNavigation(false);
    for (const SourceFolder& folder : sourceFolders()) addRow(folder);
    lines->addWidget(folders_, 1);
    auto* add = new QPushButton(tr("&Add a folder…"));
    auto* remove = new QPushButton(tr("&Remove"));
    auto* line = new QHBoxLayout;
    line->addWidget(add);
    line->addWidget(remove);
    line->addStretch(1);
    lines->addLayout(line);
    told_->setWordWrap(true);
    lines->addWidget(told_);
    auto* buttons = new QDialogButtonBox(QDialogButtonBox::Ok | QDialogButtonBox::Cancel);
    lines->addWidget(buttons);
    connect(add, &QPushButton::clicked, this, [this] {
        const QString path = QFileDialog::getExistingDirectory(this, tr("Folder with the source"));
        if (!path.isEmpty()) addRow({{}, path});
    });
    connect(remove, &QPushButton::clicked, this, [this] {
        folders_->removeRow(folders_->currentRow());
        tell();
    });
    connect(folders_, &QTableWidget::itemChanged, this, &SourceDialog::tell);
    connect(buttons, &QDialogButtonBox::accepted, this, [this] {
        keep();
        accept();
    });
    connect(buttons, &QDialogButtonBox::rejected, this, &QDialog::reject);
    resize(620, 420);
    tell();
}

void SourceDialog::addRow(const SourceFolder& folder) {
    const int row = folders_->rowCount();
    folders_->insertRow(row);
    folders_->setItem(row, 0, new QTableWidgetItem(folder.there));
    folders_->setItem(row, 1, new QTableWidgetItem(folder.here));
    folders_->setCurrentCell(row, 1);
    tell();
}

QList<SourceFolder> SourceDialog::asked() const {
    QList<SourceFolder> folders;
    for (int row = 0; row < folders_->rowCount(); ++row) {
        const auto text = [&](int column) {
            const QTableWidgetItem* item = folders_->item(row, column);
            return item ? item->text().trimmed() : QString();
        };
        if (!text(1).isEmpty()) folders << SourceFolder{text(0), text(1)};
    }
    return folders;
}

/// Whether what was written finds the source of the open recording.
void SourceDialog::tell() {
    if (example_.isEmpty()) return told_->setText(QString());
    const QString path = placeOfSource(example_, asked());
    told_->setText(path.isEmpty() ? tr("%1 of this recording is not found so.").arg(shown(example_))
                                  : tr("%1 of this recording is %2.").arg(shown(example_), shown(path)));
}

void SourceDialog::keep() {
    const QList<Editor> found = installedEditors();
    const QString command = command_->currentText().trimmed();
    const bool usual = !found.isEmpty() && command == found.front().command;
    settings::editorCommand().set(usual ? QString() : command);
    setSourceFolders(asked());
}

}  // namespace fugato
