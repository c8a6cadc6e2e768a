// SPDX-License-Identifier: GPL-3.0-or-later
#include "instant_page.h"

#include <QPainter>

#include "app/theme/theme.h"
#include "app/theme/words.h"
#include "core/ask/instant_table.h"
#include "core/explain/words/quantities.h"

namespace fugato {

ScreenPicture::ScreenPicture(QWidget* parent) : QWidget(parent) {
    setMinimumWidth(120);
    setAccessibleName(tr("Picture of the screen"));
}

void ScreenPicture::setPicture(const QImage& picture, const QString& words) {
    picture_ = picture;
    words_ = words;
    setAccessibleDescription(words);
    update();
}

void ScreenPicture::paintEvent(QPaintEvent*) {
    QPainter painter(this);
    const Theme& t = theme();
    const QFontMetrics metrics(smallFont());
    const QRect room = rect().adjusted(8, 4, -8, -metrics.height() - 8);
    painter.setFont(smallFont());
    painter.setPen(t.muted);
    const QSize size = picture_.size().scaled(room.size(), Qt::KeepAspectRatio);
    const QRect box(room.left() + (room.width() - size.width()) / 2, room.top(), size.width(), size.height());
    if (!picture_.isNull() && room.height() > 8) {
        painter.setRenderHint(QPainter::SmoothPixmapTransform);
        painter.drawImage(box, picture_);
    }
    painter.drawText(QRect(8, box.bottom() + 3, width() - 16, metrics.height() + 2), Qt::AlignHCenter | Qt::AlignTop,
                     metrics.elidedText(words_, Qt::ElideRight, width() - 16));
}

DrawerPage::Words InstantPage::words() const {
    return {"instant",
            tr("Instant"),
            tr("Everything at one &instant"),
            tr("What every lane did at one instant, with states, counters, memory, and the screen"),
            tr("Machine"),
            About::Instant};
}

InstantPage::InstantPage(Document& document, Selection& selection, QWidget* parent)
    : TablePage(document, selection, "instant", tr("Everything at one instant"), -1, parent),
      screen_(new ScreenPicture(this)) {
    splitWith(screen_, 300);
    screen_->hide();
    followInstant();
    for (const auto signal : {&Selection::chosenChanged, &Selection::viewChanged})
        connect(&selection, signal, this, [this] { askSoon(); });
    connect(&document, &Document::recordingChanged, this, [this] {
        asked_.reset();
        screen_->hide();
        clear(tr("Everything at one instant"), QString());
        askSoon();
    });
    whenChanged([this] { askSoon(); });
    clear(tr("Everything at one instant"), tr("A click into the lanes chooses an instant."));
}

void InstantPage::showEvent(QShowEvent*) { askAtOnce(); }

void InstantPage::askNow() {
    const auto recording = document_.recording();
    if (!recording || !isVisible()) return;
    const int64_t at = instantNow();
    if (asked_ == recording && askedAt_ == at) return;
    const bool same = asked_ != nullptr && view_->table();
    asked_ = recording;
    askedAt_ = at;
    struct Answer {
        std::shared_ptr<const Table> table;
        QImage screen;
        QString words;
    };
    query_.ask(
        [recording, at](const Progress&) {
            auto answer = std::make_shared<Answer>();
            answer->table = instantTable(recording, at);
            const size_t picture = pictureAt(*recording, at);
            if (picture == kNoPicture) return std::shared_ptr<const Answer>(answer);
            const Picture& p = recording->pictures[picture];
            const std::string_view pixels = recording->text(p.pixels);
            if (pixels.size() == size_t{p.width} * p.height * 3)
                answer->screen =
                    QImage(reinterpret_cast<const uchar*>(pixels.data()), static_cast<int>(p.width),
                           static_cast<int>(p.height), static_cast<int>(p.width * 3), QImage::Format_RGB888)
                        .copy();
            answer->words = tr("the screen %1 earlier").arg(toQString(durationText(at - p.time)));
            return std::shared_ptr<const Answer>(answer);
        },
        [this, same](const std::shared_ptr<const Answer>& answer) {
            title_->setText(tr("At %1").arg(toQString(instantText(askedAt_ - asked_->begin))));
            about_->setText(selection_.instant() ? QString() : tr("a click into the lanes chooses another instant"));
            screen_->setPicture(answer->screen, answer->words);
            screen_->setVisible(!answer->screen.isNull());
            view_->setEmptyText(tr("Nothing is known of this instant."));
            showTable(answer->table, same, [this] { view_->expandAll(); });
        });
}

}  // namespace fugato
