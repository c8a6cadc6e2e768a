// SPDX-License-Identifier: GPL-3.0-or-later
//
// Everything at one instant: what each lane does, frames, states, counters, memory, operations; and beside it the
// picture of the screen nearest before it.
#pragma once

#include <QImage>

#include "table_page.h"

namespace fugato {

/// A picture as large as there is room, with a sentence below it.
class ScreenPicture : public QWidget {
    Q_OBJECT
public:
    explicit ScreenPicture(QWidget* parent = nullptr);
    void setPicture(const QImage& picture, const QString& words);
    const QImage& picture() const { return picture_; }

protected:
    void paintEvent(QPaintEvent* event) override;

private:
    QImage picture_;
    QString words_;
};

class InstantPage : public TablePage {
    Q_OBJECT
public:
    InstantPage(Document& document, Selection& selection, QWidget* parent = nullptr);
    Words words() const override;
    const ScreenPicture& screen() const { return *screen_; }

protected:
    void showEvent(QShowEvent* event) override;

private:
    void askNow() override;

    ScreenPicture* const screen_;
    std::shared_ptr<const Recording> asked_;
    int64_t askedAt_ = 0;
};

}  // namespace fugato
