// SPDX-License-Identifier: GPL-3.0-or-later
//
// The figures of the frames in what is looked at beside those of another stretch, at first of the whole recording: how
// long they take, how even they are, and the markers by which the two differ most.
#pragma once

#include "app/plots/bar_plot.h"
#include "table_page.h"

namespace fugato {

class FramesPage : public TablePage {
    Q_OBJECT
public:
    FramesPage(Document& document, Selection& selection, QWidget* parent = nullptr);
    Words words() const override;
    QString figures() const { return figures_->text(); }
    QToolButton& compareButton() { return *compare_; }
    BarPlot& here() { return *here_; }
    BarPlot& there() { return *there_; }

protected:
    void showEvent(QShowEvent* event) override;
    void resizeEvent(QResizeEvent* event) override;

private:
    struct Asked {
        std::shared_ptr<const Explanation> explanation;
        Scope here, there;
        bool operator==(const Asked&) const = default;
    };
    struct Answer;
    void askNow() override;
    void show(const Answer& answer, bool same);
    void say(const QString& sentence);
    void arrange();

    QToolButton* const compare_;
    BarPlot *const here_, *const there_;
    QWidget* const plots_;
    QLabel* const figures_;
    Held other_;  // what it is compared with
    Asked asked_;
};

}  // namespace fugato
