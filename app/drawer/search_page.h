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

    /// Shows in the lanes what markers were found: the others are faded, or not shown.
    void focusFound(bool alone);

private:
    void showHint();
    std::shared_ptr<const Found> found_;
    QToolButton* const inLanes_;
};

}  // namespace fugato
