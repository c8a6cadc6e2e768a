// SPDX-License-Identifier: GPL-3.0-or-later
//
// What a search found: markers by name, occurrences by argument, points.
#pragma once

#include <QStandardItemModel>
#include <QTreeView>

#include "app/document/asking.h"
#include "core/ask/search.h"
#include "page.h"

class QLabel;

namespace fugato {

class Document;
class Selection;

class FoundPage : public DrawerPage {
    Q_OBJECT
public:
    enum Column { kWhat, kCount, kTime, kColumns };
    static constexpr size_t kMostShown = 2000;  // of each kind

    FoundPage(Document& document, Selection& selection, QWidget* parent = nullptr);
    Words words() const override;
    void search(const QString& words);
    QTreeView& tree() { return *tree_; }
    bool busy() const override { return asking_.busy(); }
    QString about() const;

private:
    void take(const std::shared_ptr<const Recording>& recording, const std::shared_ptr<const Found>& found);
    void follow(const QModelIndex& index, bool zoom);

    Document& document_;
    Selection& selection_;
    QStandardItemModel model_;
    QTreeView* tree_;
    QLabel *title_, *about_;
    Asking asking_;
    std::shared_ptr<const Recording> recording_;
    std::shared_ptr<const Found> found_;
};

}  // namespace fugato
