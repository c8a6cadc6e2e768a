// SPDX-License-Identifier: GPL-3.0-or-later
//
// What a search found: markers by name, occurrences by argument, points.
#pragma once

#include "table_page.h"

namespace fugato {

class SearchPage : public TablePage {
    Q_OBJECT
public:
    SearchPage(Document& document, Selection& selection, QWidget* parent = nullptr);
    Words words() const override;
    void search(const QString& words);

private:
    void showHint();
};

}  // namespace fugato
