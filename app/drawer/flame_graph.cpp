// SPDX-License-Identifier: GPL-3.0-or-later
#include "flame_graph.h"

#include <QHelpEvent>
#include <QKeyEvent>
#include <QMenu>
#include <QPainter>
#include <QScrollBar>
#include <QToolTip>
#include <algorithm>
#include <map>

#include "app/theme/theme.h"
#include "app/theme/words.h"
#include "core/explain/words/quantities.h"
#include "format/number_text.h"

namespace fugato {

namespace {
constexpr double kNarrowest = 1.5;  // pixels; narrower boxes are not drawn, nor what lies below them
constexpr double kRoomForText = 24;
constexpr int kSide = 4;

QString keyOf(uint32_t node) { return QString::number(node); }
}  // namespace

FlameGraph::FlameGraph(QWidget* parent)
    : QAbstractScrollArea(parent), parts_(new PaintedParts(this, [this] { return listParts(); })) {
    setFrameShape(QFrame::NoFrame);
    setFont(smallFont());
    rowHeight_ = fontMetrics().height() + 4;
    setFocusPolicy(Qt::StrongFocus);
    setHorizontalScrollBarPolicy(Qt::ScrollBarAlwaysOff);
    setAccessibleName(tr("Flame graph of the call stacks"));
    viewport()->setMouseTracking(true);
}

void FlameGraph::setStacks(std::shared_ptr<const Stacks> stacks, std::shared_ptr<const StackTree> tree,
                           const QString& why) {
    stacks_ = std::move(stacks);
    tree_ = std::move(tree);
    if (!tree_ || !tree_->total()) stacks_.reset();
    why_ = why;
    zoomed_ = node_ = StackTree::kRoot;
    layOut();
    if (stacks_) verticalScrollBar()->setValue(rowHeight_ * std::max(0, sharedByAll() - 1));
}

/// How many functions at the top all call stacks go through: the program's begin, mostly.
int FlameGraph::sharedByAll() const {
    const auto& nodes = tree_->nodes();
    int shared = 0;
    for (uint32_t at = StackTree::kRoot;
         nodes[at].children.size() == 1 && nodes[nodes[at].children[0]].total == tree_->total();
         at = nodes[at].children[0])
        ++shared;
    return shared;
}

std::vector<uint32_t> FlameGraph::childrenOf(uint32_t node) const {
    const auto& nodes = tree_->nodes();
    std::vector<uint32_t> children = nodes[node].children;
    std::stable_sort(children.begin(), children.end(),
                     [&](uint32_t a, uint32_t b) { return nodes[a].total > nodes[b].total; });
    return children;
}

void FlameGraph::layOut() {
    boxes_.clear();
    rows_ = 0;
    if (stacks_) {
        const auto& nodes = tree_->nodes();
        std::vector<uint32_t> callers;  // of what is zoomed to, each over the whole width
        for (uint32_t at = zoomed_; at != StackTree::kRoot; at = nodes[at].parent) callers.push_back(at);
        std::reverse(callers.begin(), callers.end());
        const double width = viewport()->width() - 2 * kSide;
        int row = 0;
        for (const uint32_t caller : callers)
            boxes_.push_back({caller, QRectF(kSide, rowHeight_ * row++, width, rowHeight_ - 1)});
        rows_ = row;
        const double each = width / static_cast<double>(std::max<uint64_t>(1, nodes[zoomed_].total));
        const auto place = [&](auto&& self, uint32_t node, double left, int depth) -> void {
            for (const uint32_t child : childrenOf(node)) {
                const double wide = each * static_cast<double>(nodes[child].total);
                if (wide < kNarrowest) break;
                boxes_.push_back({child, QRectF(left, rowHeight_ * depth, wide - 0.5, rowHeight_ - 1)});
                rows_ = std::max(rows_, depth + 1);
                self(self, child, left, depth + 1);
                left += wide;
            }
        };
        place(place, zoomed_, kSide, row);
    }
    verticalScrollBar()->setPageStep(viewport()->height());
    verticalScrollBar()->setSingleStep(rowHeight_);
    verticalScrollBar()->setRange(0, std::max(0, rows_ * rowHeight_ + kSide - viewport()->height()));
    setAccessibleDescription(node_ == StackTree::kRoot ? why_ : wordsOf(node_));
    parts_->changed();
    viewport()->update();
}

/// Every box that is drawn, each within that of its caller.
std::vector<PaintedPart> FlameGraph::listParts() {
    std::vector<PaintedPart> parts;
    std::map<uint32_t, int> places;
    for (const Box& box : boxes_) {
        PaintedPart part;
        part.key = keyOf(box.node);
        part.box = box.place.toAlignedRect();
        part.role = QAccessible::ListItem;
        part.name = wordsOf(box.node);
        part.more = tr("Enter fills the graph with it");
        part.selected = box.node == node_;
        part.act = [this, node = box.node] { choose(node); };
        const auto caller = places.find(tree_->nodes()[box.node].parent);
        part.within = caller == places.end() ? -1 : caller->second;
        places[box.node] = static_cast<int>(parts.size());
        parts.push_back(std::move(part));
    }
    return parts;
}

void FlameGraph::contextMenuEvent(QContextMenuEvent* event) {
    if (!stacks_) return;
    QMenu menu(this);
    const uint32_t node = event->reason() == QContextMenuEvent::Keyboard ? node_ : nodeAt(event->pos());
    if (node != StackTree::kRoot)
        menu.addAction(tr("&Zoom to %1")
                           .arg(toQString(stacks_->symbols->nameOf(tree_->nodes()[node].function)).replace("&", "&&")),
                       this, [this, node] { zoomTo(node); });
    if (zoomed_ != StackTree::kRoot) menu.addAction(tr("Show a&ll of it"), this, [this] { zoomTo(StackTree::kRoot); });
    menu.addSeparator();
    parts_->fillMenu(menu, event->pos());
    menu.exec(event->globalPos());
}

QString FlameGraph::wordsOf(uint32_t at) const {
    const StackTree::Node& node = tree_->nodes()[at];
    const Symbols& symbols = *stacks_->symbols;
    const auto part = [&](uint64_t counted) {
        QStringList words;
        if (!stacks_->scope.blocked) words << toQString(plural(counted, "sample", "samples"));
        words << tr("%1 %").arg(100.0 * static_cast<double>(counted) / static_cast<double>(tree_->total()), 0, 'f', 1);
        if (stacks_->each) words << toQString(durationText(static_cast<int64_t>(counted) * stacks_->each));
        return words.join(", ");
    };
    QString words = toQString(symbols.fullName(node.function)) + "\n" + tr("total: %1").arg(part(node.total)) + "\n" +
                    tr("self: %1").arg(part(node.self));
    const Symbols::Function& function = symbols.functions[node.function];
    if (!function.file.empty())
        words += "\n" + toQString(function.file) + (function.line ? ":" + QString::number(function.line) : QString());
    return words;
}

void FlameGraph::paintEvent(QPaintEvent*) {
    const Theme& t = theme();
    QPainter painter(viewport());
    painter.setFont(font());
    painter.fillRect(viewport()->rect(), t.paper);
    if (!stacks_) {
        painter.setPen(t.muted);
        painter.drawText(viewport()->rect().adjusted(12, 8, -12, -8), Qt::AlignTop | Qt::AlignLeft | Qt::TextWordWrap,
                         why_);
        return;
    }
    painter.translate(0, -verticalScrollBar()->value());
    const auto& nodes = tree_->nodes();
    for (const Box& box : boxes_) {
        const StackTree::Node& node = nodes[box.node];
        const bool telling = stacks_->symbols->tells(node.function);
        const bool lit = box.node < found_.size() && found_[box.node];
        painter.fillRect(box.place, lit ? t.highlight(0.35) : telling ? t.marker : t.panel);
        if (!telling) {  // the C library and code without a name step back
            painter.setPen(t.markerEdge);
            painter.drawRect(box.place.adjusted(0, 0, -1, -1));
        }
        if (node.function == function_) {
            painter.setPen(QPen(t.path, box.node == node_ ? 2 : 1));
            painter.drawRect(box.place.adjusted(0.5, 0.5, -0.5, -0.5));
        }
        if (box.place.width() < kRoomForText) continue;
        painter.setPen(lit ? wordsOn(t.highlight(0.35)) : telling ? t.markerText : t.muted);
        const QRectF room = box.place.adjusted(4, 0, -3, 0);
        painter.drawText(room, Qt::AlignVCenter | Qt::AlignLeft,
                         painter.fontMetrics().elidedText(toQString(stacks_->symbols->nameOf(node.function)),
                                                          Qt::ElideLeft, static_cast<int>(room.width())));
    }
    if (hasFocus() && node_ == StackTree::kRoot) {
        painter.resetTransform();
        painter.setPen(t.path);
        painter.drawRect(viewport()->rect().adjusted(0, 0, -1, -1));
    }
}

void FlameGraph::resizeEvent(QResizeEvent*) { layOut(); }
void FlameGraph::scrollContentsBy(int, int) { viewport()->update(); }

uint32_t FlameGraph::nodeAt(const QPointF& point) const {
    const QPointF at = point + QPointF(0, verticalScrollBar()->value());
    for (const Box& box : boxes_)
        if (box.place.contains(at)) return box.node;
    return StackTree::kRoot;
}

void FlameGraph::choose(uint32_t node) {
    node_ = node;
    function_ = node == StackTree::kRoot ? kNone : tree_->nodes()[node].function;
    setAccessibleDescription(node == StackTree::kRoot ? why_ : wordsOf(node));
    parts_->changed();
    parts_->setCurrent(keyOf(node));
    bringIntoView(node);
    viewport()->update();
    emit nodeChosen(node_);
}

void FlameGraph::chooseNode(uint32_t node) {
    if (!stacks_ || node == node_ || node >= tree_->nodes().size()) return;
    node_ = node;
    function_ = node == StackTree::kRoot ? kNone : tree_->nodes()[node].function;
    const auto drawn = [&] {
        return std::any_of(boxes_.begin(), boxes_.end(), [&](const Box& box) { return box.node == node_; });
    };
    if (!drawn()) zoomTo(tree_->nodes()[node].parent);  // it is too narrow, or elsewhere
    bringIntoView(node_);
    viewport()->update();
}

void FlameGraph::setSearch(const QString& words) {
    const Letters wanted(words.toStdString());
    found_.clear();
    if (stacks_ && !wanted.empty())
        for (const StackTree::Node& node : tree_->nodes())
            found_.push_back(wanted.in(stacks_->symbols->fullName(node.function)));
    viewport()->update();
}

QString FlameGraph::foundWords() const {
    uint64_t part = 0;
    // Of boxes that lie in each other the outer one counts.
    const auto add = [&](auto&& self, uint32_t node) -> void {
        if (node != StackTree::kRoot && found_[node]) {
            part += tree_->nodes()[node].total;
            return;
        }
        for (const uint32_t child : tree_->nodes()[node].children) self(self, child);
    };
    if (found_.empty()) return {};
    add(add, StackTree::kRoot);
    return tr("%1 % found")
        .arg(100.0 * static_cast<double>(part) / static_cast<double>(std::max<uint64_t>(1, tree_->total())), 0, 'f', 1);
}

void FlameGraph::chooseFunction(FunctionId function) {
    if (function == function_ || !stacks_) return;
    function_ = function;
    node_ = StackTree::kRoot;
    for (const Box& box : boxes_)  // its widest box
        if (tree_->nodes()[box.node].function == function &&
            (node_ == StackTree::kRoot || tree_->nodes()[box.node].total > tree_->nodes()[node_].total))
            node_ = box.node;
    bringIntoView(node_);
    viewport()->update();
}

void FlameGraph::bringIntoView(uint32_t node) {
    for (const Box& box : boxes_) {
        if (box.node != node) continue;
        QScrollBar& bar = *verticalScrollBar();
        if (box.place.top() < bar.value()) bar.setValue(static_cast<int>(box.place.top()));
        if (box.place.bottom() > bar.value() + viewport()->height())
            bar.setValue(static_cast<int>(box.place.bottom()) + 2 - viewport()->height());
    }
}

void FlameGraph::zoomTo(uint32_t node) {
    if (!stacks_) return;
    zoomed_ = node;
    layOut();
    bringIntoView(node_);
}

void FlameGraph::mousePressEvent(QMouseEvent* event) {
    if (stacks_ && event->button() == Qt::LeftButton) choose(nodeAt(event->position()));
}

void FlameGraph::mouseDoubleClickEvent(QMouseEvent* event) {
    if (stacks_ && event->button() == Qt::LeftButton) zoomTo(nodeAt(event->position()));
}

uint32_t FlameGraph::sibling(int by) const {
    const std::vector<uint32_t> all = childrenOf(tree_->nodes()[node_].parent);
    const auto at = std::find(all.begin(), all.end(), node_) - all.begin() + by;
    return at < 0 || at >= static_cast<std::ptrdiff_t>(all.size()) ? node_ : all[static_cast<size_t>(at)];
}

void FlameGraph::keyPressEvent(QKeyEvent* event) {
    if (!stacks_) return QAbstractScrollArea::keyPressEvent(event);
    if (event->matches(QKeySequence::Copy)) return void(parts_->press(*event));
    const std::vector<uint32_t> below = childrenOf(node_);
    switch (event->key()) {
        case Qt::Key_Down:
            if (!below.empty()) choose(below.front());
            break;
        case Qt::Key_Up: choose(tree_->nodes()[node_].parent); break;
        case Qt::Key_Left:
        case Qt::Key_Right:
            if (node_ != StackTree::kRoot) choose(sibling(event->key() == Qt::Key_Left ? -1 : 1));
            break;
        case Qt::Key_Return:
        case Qt::Key_Enter: zoomTo(node_); break;
        case Qt::Key_Backspace: zoomTo(tree_->nodes()[zoomed_].parent); break;
        case Qt::Key_Escape:
            if (zoomed_ == StackTree::kRoot) return QAbstractScrollArea::keyPressEvent(event);
            zoomTo(StackTree::kRoot);
            break;
        default: return QAbstractScrollArea::keyPressEvent(event);
    }
}

bool FlameGraph::viewportEvent(QEvent* event) {
    if (event->type() == QEvent::ToolTip && stacks_) {
        const auto* help = static_cast<QHelpEvent*>(event);
        const uint32_t node = nodeAt(help->pos());
        if (node == StackTree::kRoot)
            QToolTip::hideText();
        else
            QToolTip::showText(help->globalPos(), plainTip(wordsOf(node)), viewport());
        return true;
    }
    return QAbstractScrollArea::viewportEvent(event);
}

}  // namespace fugato
