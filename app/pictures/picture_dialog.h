// SPDX-License-Identifier: GPL-3.0-or-later
//
// Asks which view is to be saved as a picture, how large, and where.
#pragma once

#include <QComboBox>
#include <QDialog>
#include <QLineEdit>
#include <QPushButton>

#include "view_picture.h"

namespace fugato {

class PictureDialog : public QDialog {
    Q_OBJECT
public:
    PictureDialog(const QList<ViewPicture>& views, const QString& folder, QWidget* parent = nullptr);
    QComboBox& view() { return *view_; }
    QComboBox& factor() { return *factor_; }
    QLineEdit& path() { return *path_; }
    QPushButton& save() { return *save_; }
    /// What was chosen.
    const ViewPicture& chosen() const { return views_[view_->currentIndex()]; }
    double chosenFactor() const { return factor_->currentData().toDouble(); }

private:
    void suggest();
    void check();

    const QList<ViewPicture> views_;
    const QString folder_;
    QComboBox *const view_, *const factor_;
    QLineEdit* const path_;
    QPushButton* const save_;
    QString suggested_;
};

}  // namespace fugato
