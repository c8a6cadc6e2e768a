// SPDX-License-Identifier: GPL-3.0-or-later
#include "picture_dialog.h"

#include <QDialogButtonBox>
#include <QDir>
#include <QFileDialog>
#include <QFormLayout>
#include <QHBoxLayout>
#include <QVBoxLayout>

#include "app/settings/settings.h"
#include "app/theme/words.h"

namespace fugato {

PictureDialog::PictureDialog(const QList<ViewPicture>& views, const QString& folder, QWidget* parent)
    : QDialog(parent),
      views_(views),
      folder_(folder.isEmpty() ? QDir::homePath() : folder),
      view_(new QComboBox),
      factor_(new QComboBox),
      path_(new QLineEdit),
      save_(new QPushButton(tr("&Save"))) {
    setWindowTitle(tr("Save a picture"));
    for (const ViewPicture& view : views_) view_->addItem(view.name, view.id);
    view_->setCurrentIndex(std::max(0, view_->findData(settings::pictureView().get())));
    auto* lines = new QVBoxLayout(this);
    auto* form = new QFormLayout;
    const auto add = [&](const QString& name, QWidget* field, QWidget* row) {
        auto* label = plainLabel(name);
        label->setBuddy(field);
        field->setAccessibleName(QString(name).remove('&'));
        form->addRow(label, row);
    };
    add(tr("&View"), view_, view_);
    add(tr("Si&ze"), factor_, factor_);
    auto* browse = new QPushButton(tr("&Browse…"));
    auto* where = new QWidget;
    auto* line = new QHBoxLayout(where);
    line->setContentsMargins(0, 0, 0, 0);
    line->addWidget(path_, 1);
    line->addWidget(browse);
    add(tr("&File"), path_, where);
    lines->addLayout(form);
    auto* about = plainLabel(
        tr("A name that ends in .png or .svg says which it becomes. What is larger is drawn again at that size."));
    about->setWordWrap(true);
    lines->addWidget(about);
    auto* buttons = new QDialogButtonBox(QDialogButtonBox::Cancel);
    buttons->addButton(save_, QDialogButtonBox::AcceptRole);
    lines->addWidget(buttons);
    save_->setDefault(true);
    connect(buttons, &QDialogButtonBox::accepted, this, [this] {
        settings::pictureView().set(view_->currentData().toString());
        accept();
    });
    connect(buttons, &QDialogButtonBox::rejected, this, &QDialog::reject);
    connect(view_, &QComboBox::currentIndexChanged, this, &PictureDialog::suggest);
    connect(path_, &QLineEdit::textChanged, this, &PictureDialog::check);
    connect(browse, &QPushButton::clicked, this, [this] {
        const QString path =
            QFileDialog::getSaveFileName(this, tr("Save a picture"), path_->text(), tr("Pictures (*.png *.svg)"),
                                         nullptr, QFileDialog::DontConfirmOverwrite);
        if (!path.isEmpty()) path_->setText(path);
    });
    suggest();
    resize(520, sizeHint().height());
}

/// Sizes of the view, and a name for it where the person wrote none.
void PictureDialog::suggest() {
    const int before = std::max(0, factor_->currentIndex());
    factor_->clear();
    const QSize size = chosen().size;
    for (const auto& [factor, words] : {std::pair(1, tr("as shown: %1 x %2")), std::pair(2, tr("twice: %1 x %2")),
                                        std::pair(4, tr("four times: %1 x %2"))})
        factor_->addItem(words.arg(size.width() * factor).arg(size.height() * factor), factor);
    factor_->setCurrentIndex(before);
    if (path_->text() != suggested_) return;
    suggested_ = QDir(folder_).filePath("fugato-" + chosen().id + ".png");
    for (int number = 2; QFile::exists(suggested_); ++number)
        suggested_ = QDir(folder_).filePath(QString("fugato-%1-%2.png").arg(chosen().id).arg(number));
    path_->setText(suggested_);
    check();
}

void PictureDialog::check() {
    const QString path = path_->text();
    const bool svg = path.endsWith(".svg", Qt::CaseInsensitive), png = path.endsWith(".png", Qt::CaseInsensitive);
    save_->setEnabled(svg || png);
    save_->setText(QFile::exists(path) ? tr("&Replace") : tr("&Save"));
    factor_->setEnabled(!svg);
}

}  // namespace fugato
