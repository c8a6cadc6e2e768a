// SPDX-License-Identifier: GPL-3.0-or-later
//
// What was noted of the recording; each leads to what it is about, and is changed or removed here.
#pragma once

#include "table_page.h"

namespace fugato {

class NotesPage : public TablePage {
    Q_OBJECT
public:
    NotesPage(Document& document, Selection& selection, QWidget* parent = nullptr);
    Words words() const override;
    void fillMenu(QMenu& menu) override;

signals:
    void noteWanted(const std::string& id);  // to be changed; empty: another one

protected:
    void follow(Table::Row row, bool zoom) override;
    bool eventFilter(QObject* watched, QEvent* event) override;

private:
    void fill(bool same);
    void addActions(QMenu& menu);
    std::string idOfRow(Table::Row row) const;

    std::vector<Note> shown_;
};

}  // namespace fugato
