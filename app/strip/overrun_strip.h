// SPDX-License-Identifier: GPL-3.0-or-later
//
// The overrun strip: the whole recording at a glance, and a window on it that shows and moves the
// visible range.
#pragma once

#include <QPainter>
#include <QPixmap>
#include <QWidget>
#include <functional>

#include "app/parts/painted_parts.h"
#include "core/notes/notes.h"
#include "strip_picture.h"

namespace fugato {

class Document;
class Selection;

class OverrunStrip : public QWidget {
    Q_OBJECT
public:
    OverrunStrip(Document& document, Selection& selection, QWidget* parent = nullptr);
    QSize sizeHint() const override { return {600, kHeight}; }
    const StripPicture& picture() const { return picture_; }
    /// The selected frame, the stages and every spike.
    const PaintedParts& parts() const { return *parts_; }
    /// Paints all of it as it is shown, sharp at any size.
    void paintTo(QPainter& painter);
    /// Where the picture stands inside the widget.
    QRect area() const { return rect().adjusted(14, 2, -14, -3); }

signals:
    void noteWanted();  // on what is selected

protected:
    void paintEvent(QPaintEvent* event) override;
    void resizeEvent(QResizeEvent* event) override;
    void changeEvent(QEvent* event) override;
    void mousePressEvent(QMouseEvent* event) override;
    void mouseMoveEvent(QMouseEvent* event) override;
    void mouseReleaseEvent(QMouseEvent* event) override;
    void wheelEvent(QWheelEvent* event) override;
    void keyPressEvent(QKeyEvent* event) override;
    void contextMenuEvent(QContextMenuEvent* event) override;
    bool event(QEvent* event) override;

private:
    static constexpr int kHeight = 116;
    void layOut();
    void change(const std::function<void()>& how);
    void draw();
    bool paintEmpty(QPainter& painter) const;
    void paintOver(QPainter& painter);
    std::vector<PaintedPart> listParts();
    QRect windowRect() const;
    uint32_t frameNear(int x) const;
    QStringList linesFor(uint32_t frame) const;
    QString newFrameNear(int x) const;
    QString pointNear(int x) const;
    QRect markOf(const Note& note) const;
    const Note* noteAt(const QPoint& at) const;

    Document& document_;
    Selection& selection_;
    StripPicture picture_;
    PaintedParts* parts_;
    QPixmap drawn_;  // the picture without the window, but for
    StripPicture::Range stale_;
    std::shared_ptr<const Prediction> shownPrediction_;
    uint32_t shownCause_ = kNone;
    bool dragging_ = false, moved_ = false;
    QPoint pressedAt_;
    int64_t pressedBegin_ = 0;
};

}  // namespace fugato
