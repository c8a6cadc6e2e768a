// SPDX-License-Identifier: GPL-3.0-or-later
//
// A file of the source, with what each of its lines cost in what is looked at.
#pragma once

#include "app/source/source_paths.h"
#include "core/ask/source_lines.h"
#include "table_page.h"

namespace fugato {

class SourcePage : public TablePage {
    Q_OBJECT
public:
    SourcePage(Document& document, Selection& selection, QWidget* parent = nullptr);
    Words words() const override;
    void fillMenu(QMenu& menu) override;

protected:
    void showEvent(QShowEvent* event) override;
    void follow(Table::Row row, bool zoom) override;
    SourcePlace sourceOf(Table::Row row) const override;

private:
    void askNow() override;
    void takeMarker();

    SourcePlace place_;   // that is shown
    bool bring_ = false;  // its line into view
    std::shared_ptr<const Recording> asked_;
    std::shared_ptr<const Symbols> askedSymbols_;
    Scope askedScope_;
    SourcePlace askedPlace_;
    QList<SourceFolder> askedFolders_;
};

}  // namespace fugato
