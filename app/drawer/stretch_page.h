// SPDX-License-Identifier: GPL-3.0-or-later
//
// The nested table of a stretch of time: the chosen one, or else what is in view.
#pragma once

#include <QSortFilterProxyModel>
#include <QTimer>
#include <QTreeView>

#include "app/document/asking.h"
#include "page.h"
#include "stretch_table_model.h"

class QLabel;

namespace fugato {

class Document;
class Selection;

class StretchPage : public DrawerPage {
    Q_OBJECT
public:
    StretchPage(Document& document, Selection& selection, QWidget* parent = nullptr);
    Words words() const override;
    QTreeView& tree() { return *tree_; }
    bool busy() const override { return asking_.busy() || soon_.isActive(); }
    QString title() const;
    QString about() const;

protected:
    void showEvent(QShowEvent* event) override;

private:
    void stretchMoved();
    void ask();
    void follow(const QModelIndex& index, bool zoom);

    Document& document_;
    Selection& selection_;
    StretchTableModel model_;
    QSortFilterProxyModel sorted_;
    QTreeView* tree_;
    QLabel *title_, *about_;
    Asking asking_;
    QTimer soon_;  // while the view moves nothing is asked
    const Recording* asked_ = nullptr;
    Stretch askedStretch_;
};

}  // namespace fugato
