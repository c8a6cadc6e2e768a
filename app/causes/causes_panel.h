// SPDX-License-Identifier: GPL-3.0-or-later
//
// The causes at the left, costliest first: letter, path, kind in words, spikes, time late, and where
// in the recording they lie. The chosen one opens to its spikes.
#pragma once

#include <QAbstractScrollArea>
#include <utility>
#include <vector>

#include "app/parts/painted_parts.h"
#include "core/explain/model/explanation.h"

namespace fugato {

class Document;
class Selection;

class CausesPanel : public QAbstractScrollArea {
    Q_OBJECT
public:
    CausesPanel(Document& document, Selection& selection, QWidget* parent = nullptr);
    QSize sizeHint() const override { return {262, 400}; }

    /// What stands where, in the panel's own coordinates: a cause, or below it who had the cores and its spikes.
    struct Row {
        QRect box;
        uint32_t cause = kNone;  // kNone: the row that opens the smaller causes
        uint32_t spike = kNone;
        bool more = false;      // the row that opens the rest of a long list
        uint32_t part = kNone;  // of CPU contention, in byHolder()
    };
    const std::vector<Row>& rows() const { return rows_; }
    const PaintedParts& parts() const { return *parts_; }

protected:
    bool viewportEvent(QEvent* event) override;
    void paintEvent(QPaintEvent* event) override;
    void resizeEvent(QResizeEvent* event) override;
    void mousePressEvent(QMouseEvent* event) override;
    void keyPressEvent(QKeyEvent* event) override;
    void contextMenuEvent(QContextMenuEvent* event) override;
    void scrollContentsBy(int dx, int dy) override;

private:
    void take();
    uint32_t known(uint32_t cause) const;
    uint32_t selectedCause() const;
    void layOut();
    std::vector<PaintedPart> listParts();
    PaintedPart partOf(const Row& row);
    QString spikePlace(const Spike& spike, uint32_t shown) const;
    uint32_t shownFrame(const Spike& spike) const;
    void act(const Row& row);
    void showSelected();
    int layOutOpened(uint32_t cause, int y, int width);
    void paintCause(QPainter& painter, const Row& row) const;
    void paintSpike(QPainter& painter, const Row& row) const;
    void paintHolder(QPainter& painter, const Row& row) const;
    QString tipOf(const Row& row) const;
    static QString spikesOf(const Cause& cause);
    int spikesRoom(const QPainter& painter) const;
    const std::vector<int>& placesOf(uint32_t cause, int width) const;

    Document& document_;
    Selection& selection_;
    PaintedParts* parts_;
    std::shared_ptr<const Explanation> shown_;  // of a growing recording, an earlier one
    std::vector<Row> rows_;
    uint32_t openCause_ = kNone;
    mutable std::vector<std::vector<int>> places_;  // by cause; empty until it is painted
    mutable std::pair<const Explanation*, int> placesFor_;
    bool all_ = false;      // every spike of the open cause, not only the costliest
    bool smaller_ = false;  // also the causes that are not listed by themselves
};

}  // namespace fugato
