// SPDX-License-Identifier: GPL-3.0-or-later
//
// Why at the right: a waterfall from a usual frame's time to the chosen one's, with the deadline drawn
// through it; sentences that lead to their place; what a repair would bring; the source place.
#pragma once

#include <QAbstractScrollArea>
#include <QRect>
#include <vector>

#include "app/document/trials.h"
#include "app/parts/painted_parts.h"
#include "app/selection/selection.h"
#include "core/explain/words/explained_frame.h"

namespace fugato {

class Document;
class SelectedFrame;
class Selection;

class WhyPanel : public QAbstractScrollArea {
    Q_OBJECT
public:
    WhyPanel(Document& document, Selection& selection, SelectedFrame& selected, QWidget* parent = nullptr);
    QSize sizeHint() const override { return {338, 500}; }

    struct Spoken {  // a sentence and where it stands, in the panel's own coordinates
        Sentence sentence;
        QRect box;
    };
    const std::vector<Spoken>& spoken() const { return spoken_; }
    struct Trial {  // a repair that can be tried, and where its switch stands
        TrialChoice choice;
        QRect box;
    };
    const std::vector<Trial>& trials() const { return trials_; }
    QString whatIfWords() const;
    QString title() const;
    const PaintedParts& parts() const { return *parts_; }

    /// Where a cause stands in the source; no file where that is not known.
    SourcePlace placeOf(uint32_t cause) const;

protected:
    void paintEvent(QPaintEvent* event) override;
    void resizeEvent(QResizeEvent* event) override;
    void mousePressEvent(QMouseEvent* event) override;
    void mouseMoveEvent(QMouseEvent* event) override;
    void keyPressEvent(QKeyEvent* event) override;
    void contextMenuEvent(QContextMenuEvent* event) override;
    void scrollContentsBy(int dx, int dy) override;

private:
    void takeFrame();
    void layOut();
    std::vector<PaintedPart> listParts();
    QString subtitle() const;
    QString usualTitle() const;
    QString counted() const;
    QString notesHere() const;
    bool tried(const Trial& trial) const;
    Repair repairOf(const Trial& trial) const;
    void follow(const Sentence& sentence);
    int paintWaterfall(QPainter& painter, int top) const;
    QString emptyWords() const;
    QString sourceOf(uint32_t cause) const;
    void paintWhatIf(QPainter& painter) const;

    Document& document_;
    Selection& selection_;
    SelectedFrame& selected_;
    PaintedParts* parts_;
    std::shared_ptr<const ExplainedFrame> frame_;  // the explained frame on display
    std::vector<Spoken> spoken_;
    std::vector<Trial> trials_;  // of the chosen cause
    QRect titleBox_, timesBox_, countedBox_, notedBox_;
    QString noted_;  // what the person wrote of the cause and the frame
    int waterfallTop_ = 0, sentencesTop_ = 0, whatIfTop_ = 0, sourceTop_ = 0, height_ = 0;
};

}  // namespace fugato
