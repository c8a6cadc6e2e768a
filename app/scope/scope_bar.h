// SPDX-License-Identifier: GPL-3.0-or-later
//
// The line that says what every page speaks of, and lets the person choose: which frames or what time, and which lanes.
// What does not fit stands in a menu.
#pragma once

#include <QComboBox>
#include <QLabel>
#include <QMenu>
#include <QToolButton>

#include "app/document/document.h"
#include "app/selection/selection.h"

namespace fugato {

class ScopeBar : public QWidget {
    Q_OBJECT
public:
    ScopeBar(Document& document, Selection& selection, QWidget* parent = nullptr);
    QToolButton& chip(ScopeChoice::Of of) const;
    QComboBox& lanes() { return *lanes_; }
    /// Entries for all that can be chosen now.
    void fillMenu(QMenu& menu);
    /// What is looked at, in words.
    QString words() const;

    QSize minimumSizeHint() const override { return {100, sizeHint().height()}; }  // what does not fit is in the menu

protected:
    void focusInEvent(QFocusEvent* event) override;
    void resizeEvent(QResizeEvent* event) override;

private:
    struct Chip {
        ScopeChoice::Of of{};
        QToolButton* button = nullptr;
        QString help;
        bool possible = false;
    };
    void addChips(QHBoxLayout& line);
    void setUpLanes();
    void take();
    void takeLanes();
    void showLanes();
    void arrange();
    void choose(ScopeChoice::Of of);
    void chooseNamed(ScopeChoice::Of of, const std::string& name);
    void fillStages(QMenu& menu);
    void fillStretches(QMenu& menu);
    std::string stageHere() const;
    std::string stretchHere() const;

    Document& document_;
    Selection& selection_;
    QList<Chip> chips_;
    QToolButton* more_;
    QMenu *moreMenu_, *stages_, *stretches_;
    QComboBox* lanes_;
    QLabel *head_, *on_;
};

}  // namespace fugato
