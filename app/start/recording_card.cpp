// SPDX-License-Identifier: GPL-3.0-or-later
#include "recording_card.h"

#include <QApplication>
#include <QClipboard>
#include <QContextMenuEvent>
#include <QDesktopServices>
#include <QFileInfo>
#include <QKeyEvent>
#include <QMenu>
#include <QPainter>
#include <algorithm>

#include "app/parts/card.h"
#include "app/theme/theme.h"
#include "app/theme/words.h"
#include "core/explain/words/quantities.h"

namespace fugato {

namespace {

constexpr int kHeight = 62, kSide = 14, kNarrow = 560;

void paintStrip(QPainter& painter, const QRect& area, const std::vector<float>& strip) {
    const Theme& t = theme();
    const int zero = area.top() + area.height() * 2 / 3;
    float tallest = 0.5f;  // of a deadline, so that little is drawn little
    for (const float value : strip) tallest = std::max(tallest, value);
    const auto columns = static_cast<int>(strip.size());
    for (int i = 0; i < columns; ++i) {
        const int left = area.left() + area.width() * i / columns;
        const int width = std::max(1, area.left() + area.width() * (i + 1) / columns - left);
        const float value = strip[static_cast<size_t>(i)];
        if (value > 0) {
            const int height = std::max(2, static_cast<int>(value / tallest * static_cast<float>(zero - area.top())));
            painter.fillRect(left, zero - height, width, height, t.plum);
        } else {
            const int depth = std::max(1, static_cast<int>(-value * static_cast<float>(area.bottom() - zero)));
            painter.fillRect(left, zero + 1, width, depth, t.headroom);
        }
    }
    painter.fillRect(area.left(), zero, area.width(), 1, t.text);
}

}  // namespace

RecordingCard::RecordingCard(const QString& path, QWidget* parent) : QAbstractButton(parent), path_(path) {
    const QFileInfo file(path);
    fileName_ = shown(file.fileName());
    bytes_ = file.isFile() ? file.size() : 0;
    modified_ = file.lastModified();
    when_ = file.lastModified().toString("d MMM yyyy, hh:mm");
    size_ = sizeText(file.size());
    if (!file.isFile()) {
        auto gone = std::make_shared<RecordingFacts>();
        gone->trouble = tr("It is no longer there.");
        facts_ = gone;
        when_ = shown(file.absolutePath());
        size_.clear();
        setEnabled(false);
    }
    setFocusPolicy(Qt::StrongFocus);
    setSizePolicy(QSizePolicy::Expanding, QSizePolicy::Fixed);
    describe();
}

QSize RecordingCard::sizeHint() const { return {420, kHeight}; }

void RecordingCard::setFacts(std::shared_ptr<const RecordingFacts> facts) {
    facts_ = std::move(facts);
    describe();
    update();
}

QString RecordingCard::title() const {
    if (!facts_) return fileName_;
    if (!facts_->note.name.isEmpty()) return shown(facts_->note.name);
    return facts_->program.isEmpty() ? fileName_ : facts_->program;
}

bool RecordingCard::holds(const QStringList& words) const {
    QString all = accessibleName() + " " + path_;
    if (facts_) all += " " + facts_->program + " " + facts_->note.note;
    return std::all_of(words.begin(), words.end(),
                       [&](const QString& word) { return all.contains(word, Qt::CaseInsensitive); });
}

void RecordingCard::keyPressEvent(QKeyEvent* event) {
    if (event->key() == Qt::Key_F2) return emit describeWanted();
    if (event->key() == Qt::Key_Delete) return emit binWanted();
    QAbstractButton::keyPressEvent(event);
}

void RecordingCard::contextMenuEvent(QContextMenuEvent* event) {
    QMenu menu(this);
    menu.addAction(tr("&Open"), this, &QAbstractButton::click);
    menu.addAction(tr("&Name, tags and note…"), QKeySequence(Qt::Key_F2), this, &RecordingCard::describeWanted);
    menu.addAction(tr("&Copy its path"), this, [this] { QApplication::clipboard()->setText(path_); });
    menu.addAction(tr("Open its &folder"), this,
                   [this] { QDesktopServices::openUrl(QUrl::fromLocalFile(QFileInfo(path_).absolutePath())); });
    menu.addSeparator();
    menu.addAction(tr("Move to the &bin"), QKeySequence(Qt::Key_Delete), this, &RecordingCard::binWanted);
    menu.exec(event->globalPos());
}

QStringList RecordingCard::lesser() const {
    const bool started = facts_ && facts_->started.toMSecsSinceEpoch() > 0;
    QString first = started ? facts_->started.toString("d MMM yyyy, hh:mm") : when_;
    if (facts_ && !facts_->build.isEmpty()) first += tr(", build %1").arg(facts_->build);
    if (facts_ && !facts_->note.name.isEmpty() && !facts_->program.isEmpty()) first = facts_->program + ", " + first;
    QStringList second{size_};
    if (facts_ && !facts_->note.tags.isEmpty()) second << facts_->note.tags.join(", ");
    if (facts_ && !facts_->note.note.isEmpty()) second << facts_->note.note.section('\n', 0, 0);
    if (facts_ && !facts_->because.isEmpty()) second << tr("saved because %1").arg(facts_->because);
    if (second.size() == 1 && title() != fileName_) second << fileName_;
    return {first, shown(second.join(" · "))};
}

QStringList RecordingCard::figures() const {
    if (!facts_) return {tr("computing…")};
    if (!facts_->trouble.isEmpty()) return {facts_->trouble};
    const QString length = toQString(durationText(facts_->length));
    if (facts_->growing) return {length, tr("being recorded")};
    if (!facts_->frames) return {length, tr("no frames")};
    return {tr("%1 · %2 · %3 over")
                .arg(length, toQString(plural(static_cast<uint64_t>(facts_->frames), "frame", "frames")),
                     toQString(countText(static_cast<uint64_t>(facts_->over)))),
            facts_->cause.isEmpty() ? tr("nothing late") : facts_->cause};
}

void RecordingCard::describe() {
    const QString said = facts_ ? facts_->note.note : QString();
    setToolTip(plainTip(shown(path_) + (said.isEmpty() ? QString() : "\n" + said)));
    setAccessibleName(title() + ", " + lesser().join(", ") + ", " + figures().join(", "));
}

void RecordingCard::paintEvent(QPaintEvent*) {
    QPainter painter(this);
    paintCard(painter, *this);
    const Theme& t = theme();
    const QRect inside = rect().adjusted(kSide, 8, -kSide, -8);
    const bool narrow = width() < kNarrow;  // no strip: names and figures need the room
    const int left = narrow ? inside.width() / 2 : inside.width() * 35 / 100;
    const int right = narrow ? inside.width() - left - 12 : inside.width() * 35 / 100;
    const auto line = [&](int x, int wide, int at, const QFont& font, const QColor& color, const QString& text) {
        painter.setFont(font);
        painter.setPen(color);
        const QRect box(x, inside.top() + at * 16, wide, 16);
        painter.drawText(box, Qt::AlignLeft | Qt::AlignVCenter,
                         painter.fontMetrics().elidedText(text, Qt::ElideRight, wide));
    };
    const QColor words = isEnabled() ? t.text : t.muted;
    line(inside.left(), left, 0, boldFont(), words, title());
    const QStringList below = lesser();
    for (int i = 0; i < below.size(); ++i) line(inside.left(), left, i + 1, smallFont(), t.muted, below[i]);
    const QStringList told = figures();
    for (int i = 0; i < told.size(); ++i)
        line(inside.right() - right, right, i, i + 1 == told.size() && i ? boldFont() : textFont(), words, told[i]);
    if (!narrow && facts_ && !facts_->strip.empty())
        paintStrip(painter,
                   QRect(inside.left() + left + 12, inside.top(), inside.width() - left - right - 24, inside.height()),
                   facts_->strip);
}

}  // namespace fugato
