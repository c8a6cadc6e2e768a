// SPDX-License-Identifier: GPL-3.0-or-later
//
// Everything that happened in what is looked at, in order of time; or the last events of each lane.
#pragma once

#include "core/ask/event_table.h"
#include "table_page.h"

namespace fugato {

class EventsPage : public TablePage {
    Q_OBJECT
public:
    EventsPage(Document& document, Selection& selection, QWidget* parent = nullptr);
    Words words() const override;
    bool busy() const override { return TablePage::busy() || placing_.busy(); }
    /// Which events are listed, as a menu.
    QToolButton& which() { return *which_; }
    QComboBox& order() { return *order_; }
    /// The last events of each lane, of the whole recording: what a program did before it ended.
    void showLast();

protected:
    void showEvent(QShowEvent* event) override;

private:
    void askNow() override;
    void filterBy(const QString& words) override;
    void fillWhich(QMenu& menu);
    void showWhich();
    bool inOrderOfTime() const;
    void showInstant(bool bring);
    EventFilter filterNow() const;

    QComboBox* const order_;
    QToolButton* const which_;
    QString category_;  // empty: any
    std::shared_ptr<const Recording> asked_;
    Scope askedScope_;
    EventFilter askedFilter_;
    bool askedLast_ = false;
    std::shared_ptr<const EventList> list_;  // that is shown
    BackgroundQuery placing_;
};

}  // namespace fugato
