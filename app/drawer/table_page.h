// SPDX-License-Identifier: GPL-3.0-or-later
//
// A page that shows a table: title, something about it, a filter, and the rows, which lead to where they are about.
// What it shows is asked on another thread.
#pragma once

#include <QComboBox>
#include <QLabel>
#include <QLineEdit>
#include <QTimer>
#include <QToolButton>
#include <QVBoxLayout>
#include <functional>

#include "app/document/document.h"
#include "app/selection/selection.h"
#include "app/settings/settings.h"
#include "app/table/table_view.h"
#include "app/work/background_query.h"
#include "app/work/pace.h"
#include "core/ask/answer_tables.h"
#include "page.h"

namespace fugato {

class TablePage : public DrawerPage {
    Q_OBJECT
public:
    TableView& view() { return *view_; }
    QLineEdit& filter() { return *filter_; }
    QString title() const { return title_->text(); }
    QString about() const { return about_->text(); }
    /// Holds the page to what it shows, or lets it follow; of pages that follow the scope.
    QToolButton* holdButton() const { return hold_; }
    void fillMenu(QMenu& menu) override;
    bool busy() const override {
        return soon_.isActive() || query_.busy() || leading_.busy() || view_->rows().busy() || view_->reading();
    }

protected:
    /// `name`: of the table, for screen readers. Sorted by `column` at first; -1: as it is.
    TablePage(Document& document, Selection& selection, const QString& id, const QString& name, int column,
              QWidget* parent);
    /// Beside the filter, or below the title.
    void addBeside(QWidget* widget);
    void addBelow(QWidget* widget);
    /// A plot below the title, while it is wanted and the page is high enough for it.
    void addPlot(QWidget* plot);
    void wantPlot(bool wanted);
    void resizeEvent(QResizeEvent* event) override;
    /// Sentences below the title; of several things that are added there, the one added last stands first.
    QLabel* addFigures();
    QWidget* addSideBySide(QWidget* left, QWidget* right);
    /// A choice beside the filter, remembered; what is shown is asked again when it is another.
    QComboBox* addChoice(const QString& name, const QString& help, const QList<std::pair<QString, int>>& choices,
                         const Setting<int>& remembered);
    /// Shows rows, and calls `open` once they are there, unless they tell of the `same` as those before.
    void showTable(std::shared_ptr<const Table> table, bool same, std::function<void()> open);
    /// A few words about what is shown, beside the title; where not all rows are held in an order, that too.
    void setAbout(const QString& words);
    /// Beside the rows, at their right; with so many permille of the width, until the person moves the edge.
    void splitWith(QWidget* widget, int permille = 500);
    /// Shows no rows, and in their place why.
    void clear(const QString& title, const QString& sentence);
    /// A row leads to its marker, to all occurrences of its marker (`zoom`: to the longest), or to its span of time.
    virtual void follow(Table::Row row, bool zoom);
    /// Where what a row is about stands in the source; no file: not known.
    virtual SourcePlace sourceOf(Table::Row row) const;
    /// What was typed into the filter; unless it is overridden, rows with these letters are shown.
    virtual void filterBy(const QString& words);
    /// Asks when the view no longer moves; while the recording grows, now and then.
    void askSoon();
    void askAtOnce();
    virtual void askNow() {}
    /// Calls `take` when the recording or the explanation is another; while it grows not before the last answer came.
    void whenChanged(std::function<void()> take);
    /// It speaks of what is looked at, unless the person holds it to what it shows; asks again whenever that is
    /// another. `whole`: at first it is held to the whole recording.
    void followScope(bool whole);
    void holdTo(const ScopeChoice& choice);  // as the person does with the button
    /// What is looked at, or what the page is held to.
    struct Held {
        ScopeChoice choice;
        ScopeContext context;  // what was selected then
    };
    Held shownNow() const;
    /// What it speaks of now, or why there is nothing. Of a recording that is open.
    Result<ChosenScope> scopeNow() const;
    /// Whether what it speaks of is the same as at the last call, as far as that can be while a recording grows.
    bool speaksOfTheSame();
    /// The row of the selected marker is chosen and brought into view, where there is one.
    void followMarker();
    /// It tells of the instant, too: asks again whenever that is another.
    void followInstant();
    /// The chosen instant; else when the selected marker begins, or the selected frame, or what is in view. Of a
    /// recording that is open.
    int64_t instantNow() const;

    Document& document_;
    Selection& selection_;
    TableView* const view_;
    QLabel *const title_, *const about_;
    QLineEdit* const filter_;
    BackgroundQuery query_;

private:
    void arrangePlot();
    void showAbout();
    void followRow(Table::Row row, bool zoom);
    void setHeld(std::optional<Held> held);
    void showHeld();
    void showLongest(uint32_t site);
    void addSource(QMenu& menu);
    QString told_;  // beside the title
    QHBoxLayout* const head_;
    QVBoxLayout* const lines_;
    QWidget* plot_ = nullptr;
    bool plotWanted_ = false;
    QToolButton* hold_ = nullptr;  // of a page that follows the scope
    std::optional<Held> held_, spokenOf_;
    std::function<void()> open_;  // once the rows are there
    bool following_ = false;      // the selection is changed from here
    QTimer soon_;
    Pace pace_{0, 50};  // of asking again while the recording grows
    BackgroundQuery leading_;
};

}  // namespace fugato
