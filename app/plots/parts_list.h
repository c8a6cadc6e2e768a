// SPDX-License-Identifier: GPL-3.0-or-later
//
// Lists of names with a bar each, one below the other under their titles: by caller, by stage, by the values of an
// argument.
#pragma once

#include <QAbstractScrollArea>

#include "app/parts/painted_parts.h"

namespace fugato {

class PartsList : public QAbstractScrollArea {
    Q_OBJECT
public:
    struct Line {
        QString name, words;  // what stands behind its bar
        double part = 0;      // of the longest bar, from 0 to 1
        QString more;         // in the tooltip
    };
    struct Section {
        QString title;
        std::vector<Line> lines;
    };

    explicit PartsList(QWidget* parent = nullptr);
    void setSections(std::vector<Section> sections);
    const std::vector<Section>& sections() const { return sections_; }
    const PaintedParts& parts() const { return *parts_; }

protected:
    void paintEvent(QPaintEvent* event) override;
    void resizeEvent(QResizeEvent* event) override;
    void keyPressEvent(QKeyEvent* event) override;
    void contextMenuEvent(QContextMenuEvent* event) override;
    void scrollContentsBy(int dx, int dy) override;
    bool viewportEvent(QEvent* event) override;

private:
    int lineHeight() const;
    int heightOfAll() const;
    void layOut();
    std::vector<PaintedPart> listParts();

    PaintedParts* parts_;
    std::vector<Section> sections_;
};

}  // namespace fugato
