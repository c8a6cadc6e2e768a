// SPDX-License-Identifier: GPL-3.0-or-later
//
// Call stacks as a flame graph: a box for each function below the one that called it, as wide as its part of the call
// stacks. The outermost functions stand at the top, as in the lanes (those that all share out of sight, so that one
// sees where they part); or the innermost ones, and below them who called them. A click chooses a box and with it every
// other of its function; a double click or Return lets it fill the width; arrows go from box to box.
#pragma once

#include <QAbstractScrollArea>
#include <memory>
#include <vector>

#include "app/parts/painted_parts.h"
#include "core/ask/stacks.h"
#include "core/table/letters.h"

namespace fugato {

class FlameGraph : public QAbstractScrollArea {
    Q_OBJECT
public:
    explicit FlameGraph(QWidget* parent = nullptr);
    /// Null: there is nothing, and `why` says so. `tree`: of these call stacks, from the outermost function in or from
    /// the innermost out.
    void setStacks(std::shared_ptr<const Stacks> stacks, std::shared_ptr<const StackTree> tree,
                   const QString& why = {});
    void chooseNode(uint32_t node);
    /// Lights up the boxes whose names hold these letters.
    void setSearch(const QString& words);
    QString foundWords() const;                // which part of all that is
    void chooseFunction(FunctionId function);  // kNone: none
    FunctionId function() const { return function_; }
    void zoomTo(uint32_t node);  // of the tree; its root: all

    struct Box {
        uint32_t node = 0;
        QRectF place;  // in the widget's contents
    };
    const std::vector<Box>& boxes() const { return boxes_; }
    uint32_t zoomedTo() const { return zoomed_; }
    QString wordsOf(uint32_t node) const;
    const PaintedParts& parts() const { return *parts_; }

signals:
    void nodeChosen(uint32_t node);  // the root: none

protected:
    void paintEvent(QPaintEvent* event) override;
    void resizeEvent(QResizeEvent* event) override;
    void mousePressEvent(QMouseEvent* event) override;
    void mouseDoubleClickEvent(QMouseEvent* event) override;
    void keyPressEvent(QKeyEvent* event) override;
    void contextMenuEvent(QContextMenuEvent* event) override;
    void scrollContentsBy(int dx, int dy) override;
    bool viewportEvent(QEvent* event) override;

private:
    void layOut();
    int sharedByAll() const;
    std::vector<PaintedPart> listParts();
    void choose(uint32_t node);
    uint32_t nodeAt(const QPointF& point) const;
    void bringIntoView(uint32_t node);
    std::vector<uint32_t> childrenOf(uint32_t node) const;  // the widest first
    uint32_t sibling(int by) const;

    PaintedParts* parts_;
    std::shared_ptr<const Stacks> stacks_;
    std::shared_ptr<const StackTree> tree_;
    std::vector<bool> found_;  // by node; empty: nothing is looked for
    QString why_;
    std::vector<Box> boxes_;
    uint32_t zoomed_ = StackTree::kRoot, node_ = StackTree::kRoot;  // chosen; the root: none
    FunctionId function_ = kNone;
    int rowHeight_ = 18, rows_ = 0;
};

}  // namespace fugato
