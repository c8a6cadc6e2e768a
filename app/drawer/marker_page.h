// SPDX-License-Identifier: GPL-3.0-or-later
//
// One marker over the recording, or over the chosen stretch: its figures, and its longest occurrences.
#pragma once

#include <QSortFilterProxyModel>
#include <QStandardItemModel>
#include <QTreeView>

#include "app/document/asking.h"
#include "core/ask/marker_statistics.h"
#include "page.h"

class QLabel;

namespace fugato {

class Document;
class Selection;

class MarkerPage : public DrawerPage {
    Q_OBJECT
public:
    enum Column { kWhere, kDuration, kBegin, kFrame, kColumns };
    static constexpr int kSortRole = Qt::UserRole, kMarkerRole = Qt::UserRole + 1;
    static constexpr size_t kMostShown = 1000;

    MarkerPage(Document& document, Selection& selection, QWidget* parent = nullptr);
    Words words() const override;
    QTreeView& tree() { return *tree_; }
    bool busy() const override { return asking_.busy(); }
    QString title() const;
    QString figures() const;
    const std::shared_ptr<const MarkerStatistics>& statistics() const { return statistics_; }

protected:
    void showEvent(QShowEvent* event) override;

private:
    struct Answer {
        std::shared_ptr<const MarkerStatistics> statistics;
        std::shared_ptr<const std::vector<Occurrence>> longest;
    };
    void ask();
    void take(const std::shared_ptr<const Recording>& recording, const Answer& answer);
    MarkerRef markerAt(const QModelIndex& index) const;

    Document& document_;
    Selection& selection_;
    QStandardItemModel model_;
    QTreeView* tree_;
    QLabel *title_, *about_, *figures_;
    Asking asking_;
    std::shared_ptr<const MarkerStatistics> statistics_;
    const Recording* asked_ = nullptr;
    uint32_t askedSite_ = kNone;
    Stretch askedStretch_;
    std::vector<Occurrence> shown_;
};

}  // namespace fugato
