// SPDX-License-Identifier: GPL-3.0-or-later
#include "why_panel.h"

#include <QKeyEvent>
#include <QMenu>
#include <QMouseEvent>
#include <QPainter>
#include <QScrollBar>
#include <algorithm>
#include <cmath>

#include "app/document/document.h"
#include "app/selection/selected_frame.h"
#include "app/theme/theme.h"
#include "app/theme/words.h"
#include "core/summary/summary.h"

namespace fugato {

namespace {
constexpr int kSide = 16, kStepHeight = 33, kBar = 12, kTop = 6, kSwitch = 22;
}  // namespace

WhyPanel::WhyPanel(Document& document, Selection& selection, SelectedFrame& selected, QWidget* parent)
    : QAbstractScrollArea(parent),
      document_(document),
      selection_(selection),
      selected_(selected),
      parts_(new PaintedParts(this, [this] { return listParts(); })) {
    setFrameShape(QFrame::NoFrame);
    setHorizontalScrollBarPolicy(Qt::ScrollBarAlwaysOff);
    setFocusPolicy(Qt::StrongFocus);
    setMinimumWidth(230);
    viewport()->setMouseTracking(true);
    viewport()->setAttribute(Qt::WA_OpaquePaintEvent);
    setAccessibleName(tr("Why the selected frame took as long as it did"));
    connect(&document, &Document::recordingChanged, this, &WhyPanel::layOut);
    connect(&document, &Document::detailsChanged, this, &WhyPanel::layOut);
    connect(&document.trials(), &Trials::changed, this, &WhyPanel::layOut);
    connect(&selection, &Selection::chosenChanged, this, &WhyPanel::layOut);
    connect(&selected, &SelectedFrame::changed, this, &WhyPanel::takeFrame);
    for (const auto signal : {&Notes::changed, &Notes::loaded})
        connect(&document.notes(), signal, this, &WhyPanel::layOut);
}

void WhyPanel::takeFrame() {
    frame_ = selected_.shown();
    spoken_.clear();
    if (frame_)
        for (const Sentence& sentence : frame_->sentences) spoken_.push_back({sentence, {}});
    layOut();
}

void WhyPanel::layOut() {
    const int width = viewport()->width() - 2 * kSide;
    const auto heightOf = [&](const QFont& font, const QString& words) {
        return QFontMetrics(font).boundingRect(QRect(0, 0, width, 400), Qt::TextWordWrap, words).height();
    };
    titleBox_ = QRect(kSide, kTop, width, heightOf(titleFont(), title()) + 3);
    timesBox_ = QRect(kSide, titleBox_.bottom() + 3, width, frame_ ? heightOf(smallFont(), subtitle()) + 2 : 0);
    waterfallTop_ = timesBox_.bottom() + 10;
    int y = waterfallTop_ + static_cast<int>((frame_ ? frame_->waterfall.size() : 0) + 1) * kStepHeight + 34;
    countedBox_ = QRect(kSide, y - 16, width, frame_ ? heightOf(smallFont(), counted()) + 2 : 0);
    if (frame_) y = countedBox_.bottom() + 18;
    sentencesTop_ = y;
    const QFontMetrics metrics(textFont());
    for (Spoken& spoken : spoken_) {
        const int high =
            metrics.boundingRect(QRect(0, 0, width, 400), Qt::TextWordWrap, toQString(spoken.sentence.text)).height();
        spoken.box = QRect(kSide, y, width, high + 2);
        y += high + 9;
    }
    noted_ = notesHere();
    notedBox_ = QRect(kSide, y, width, noted_.isEmpty() ? 0 : heightOf(smallFont(), noted_) + 2);
    if (!noted_.isEmpty()) y = notedBox_.bottom() + 9;
    whatIfTop_ = y + 4;
    trials_.clear();
    if (const auto& e = document_.explanation(); e && selection_.cause() < e->causes.size()) {
        const QFontMetrics bold(boldFont());
        const int high = bold.boundingRect(QRect(0, 0, width - 24, 400), Qt::TextWordWrap, whatIfWords()).height();
        y = whatIfTop_ + high + 20;
        for (const TrialChoice& choice : trialChoices(*e, selection_.cause())) trials_.push_back({choice, {}});
        const QFontMetrics small(smallFont());
        int x = kSide + 12;
        for (Trial& trial : trials_) {
            const int wide = small.horizontalAdvance(trial.choice.name) + 18;
            if (x > kSide + 12 && x + wide > kSide + width - 12) {
                x = kSide + 12;
                y += kSwitch + 5;
            }
            trial.box = QRect(x, y, wide, kSwitch);
            x += wide + 8;
        }
        if (!trials_.empty()) y += kSwitch + 10;
        sourceTop_ = y + 12;
        y = sourceTop_ + 40;
    }
    height_ = y + 10;
    verticalScrollBar()->setRange(0, std::max(0, height_ - viewport()->height()));
    verticalScrollBar()->setPageStep(viewport()->height());
    verticalScrollBar()->setSingleStep(20);
    parts_->changed();
    viewport()->update();
}

/// Everything that is said, from top to bottom; what is painted short in full.
std::vector<PaintedPart> WhyPanel::listParts() {
    std::vector<PaintedPart> parts;
    const int width = viewport()->width() - 2 * kSide;
    const auto add = [&](const QString& key, const QRect& box, const QString& name) -> PaintedPart& {
        PaintedPart& part = parts.emplace_back();
        part.key = key;
        part.box = box;
        part.name = name;
        return part;
    };
    add("title", titleBox_, title()).role = QAccessible::Heading;
    if (!frame_) {
        add("empty", {kSide, 34, width, 120}, emptyWords());
        return parts;
    }
    add("times", timesBox_, subtitle());
    const Explanation& e = *frame_->explanation;
    const auto step = [&](size_t at) {
        return QRect(kSide, waterfallTop_ + static_cast<int>(at) * kStepHeight, width, kStepHeight - 3);
    };
    add("usual", step(0), tr("%1: %2 ms").arg(usualTitle(), toQString(msText(e.usualDuration(frame_->frame)))));
    for (size_t i = 0; i < frame_->waterfall.size(); ++i) {
        const WaterfallStep& one = frame_->waterfall[i];
        add("step " + QString::number(i), step(i + 1),
            tr("%1: %2 ms").arg(toQString(one.title), toQString(signedMsText(one.excess))));
    }
    add("counted", countedBox_, counted());
    for (size_t i = 0; i < spoken_.size(); ++i) {
        PaintedPart& part = add("sentence " + QString::number(i), spoken_[i].box, toQString(spoken_[i].sentence.text));
        if (spoken_[i].sentence.lane == kNone || spoken_[i].sentence.end <= spoken_[i].sentence.begin) continue;
        part.role = QAccessible::Link;
        part.more = tr("leads to its place in the lanes");
        part.act = [this, sentence = spoken_[i].sentence] { follow(sentence); };
    }
    if (!noted_.isEmpty()) add("noted", notedBox_, noted_);
    const auto& now = document_.explanation();
    if (!now || selection_.cause() >= now->causes.size()) return parts;
    add("what if",
        {kSide, whatIfTop_, width, (trials_.empty() ? sourceTop_ - 12 : trials_.front().box.top()) - whatIfTop_},
        whatIfWords());
    for (const Trial& trial : trials_) {
        PaintedPart& part = add(trial.choice.repair.gone ? "without" : "usual time", trial.box, trial.choice.name);
        part.role = QAccessible::Button;
        part.on = tried(trial);
        part.act = [this, trial] { document_.trials().toggle(repairOf(trial)); };
    }
    if (const SourcePlace source = placeOf(selection_.cause()); !source.file.empty()) {
        PaintedPart& part = add("source", {kSide, sourceTop_, width, 16}, sourceOf(selection_.cause()));
        part.role = QAccessible::Link;
        part.more = tr("shows the source with the cost of its lines");
        part.act = [this, source] { selection_.lookAtSource(source); };
    }
    return parts;
}

/// Of the cause that is selected now: the recording may have grown since this was laid out.
Repair WhyPanel::repairOf(const Trial& trial) const { return {selection_.cause(), trial.choice.repair.gone}; }

bool WhyPanel::tried(const Trial& trial) const {
    const auto& repairs = document_.trials().repairs();
    return std::find(repairs.begin(), repairs.end(), repairOf(trial)) != repairs.end();
}

void WhyPanel::follow(const Sentence& s) {
    const int64_t margin = (s.end - s.begin) / 6;
    selection_.chooseMarker(document_.recording()->innermostBefore(s.lane, s.end));
    selection_.showSpan(s.begin - margin, s.end + margin, true);
}

/// How late the frame is, beside what it usually takes.
QString WhyPanel::subtitle() const {
    const FrameVerdict& frame = frame_->verdict();
    if (frame_->explanation->frames.size() == 1)
        return frame.overrun ? tr("%1 past its deadline.").arg(toQString(durationText(frame.overrun)))
                             : tr("%1 to spare.").arg(toQString(durationText(frame.deadline - frame.work)));
    const QString usual =
        tr("usually %1 in all.").arg(toQString(durationText(frame_->explanation->usualDuration(frame_->frame))));
    return frame.overrun ? tr("%1 past its deadline; %2").arg(toQString(durationText(frame.overrun)), usual)
                         : tr("%1 to spare; %2").arg(toQString(durationText(frame.deadline - frame.work)), usual);
}

/// What the person wrote of the selected cause, and of the frame and its spike.
QString WhyPanel::notesHere() const {
    const auto& e = document_.explanation();
    if (!frame_ || !e) return {};
    const std::string cause =
        selection_.cause() < e->causes.size() ? causeKey(*e, e->causes[selection_.cause()]) : std::string();
    const std::string& series = document_.recording()->series[e->series].name;
    QStringList lines;
    for (const Note& note : document_.notes().all()) {
        const bool ofFrame = (note.about == NoteAbout::Frame || note.about == NoteAbout::Spike) &&
                             note.series == series && note.frame == frame_->frame;
        const bool ofCause = note.about == NoteAbout::Cause && !cause.empty() && note.cause == cause;
        if (ofFrame || ofCause) lines << tr("Noted: %1").arg(toQString(noteText(note)));
    }
    return lines.join('\n');
}

/// What the bars count, which is not what the table counts.
QString WhyPanel::counted() const {
    return tr("Time on the critical path, the blue line. The table counts whole markers.");
}

QString WhyPanel::usualTitle() const {
    const Explanation& e = *frame_->explanation;
    const auto& stage = e.baselines[e.frames[frame_->frame].baseline].stage;
    return stage.empty() ? tr("A usual frame") : tr("A usual %1 frame").arg(toQString(stage));
}

void WhyPanel::resizeEvent(QResizeEvent*) { layOut(); }
void WhyPanel::scrollContentsBy(int, int) { viewport()->update(); }

QString WhyPanel::title() const {
    if (!frame_) return tr("Why");
    return tr("Why frame %1 took %2")
        .arg(toQString(countText(frame_->frame)), toQString(durationText(frame_->times().duration())));
}

QString WhyPanel::emptyWords() const {
    if (!document_.recording()) return tr("The explanation of the selected frame appears here.");
    if (!document_.explanation() || document_.explanation()->frames.empty()) return document_.whyUnexplained();
    if (selected_.busy()) return tr("computing…");
    return tr("Select a frame in the strip above, or press N for the next spike.");
}

/// Draws the waterfall and returns where it ends.
int WhyPanel::paintWaterfall(QPainter& painter, int top) const {
    const Theme& t = theme();
    const Explanation& e = *frame_->explanation;
    const uint32_t frame = frame_->frame;
    const std::vector<WaterfallStep>& waterfall = frame_->waterfall;
    const int64_t duration = e.frame(frame).duration(), deadline = e.frames[frame].deadline,
                  usual = e.usualDuration(frame);
    int64_t longest = std::max({duration, deadline, usual}), reached = usual;
    for (const WaterfallStep& step : waterfall) longest = std::max(longest, reached += step.excess);
    const int left = kSide, width = viewport()->width() - 2 * kSide - 44;
    const auto xOf = [&](int64_t ns) {
        return left + static_cast<double>(ns) / static_cast<double>(std::max<int64_t>(longest, 1)) * width;
    };

    const double due = xOf(deadline);
    const int end = top + static_cast<int>(waterfall.size() + 1) * kStepHeight;
    painter.setPen(QPen(t.text, 1.1, Qt::DashLine));
    painter.drawLine(QPointF(due, top + 15), QPointF(due, end + 2));
    int y = top;
    // `hatched`: the part of it, at its end, that was not running.
    const auto bar = [&](const QString& title, double from, double to, const QColor& color, const QString& amount,
                         double hatched) {
        painter.setFont(smallFont());
        painter.setPen(t.text);
        const QString name = painter.fontMetrics().elidedText(title, Qt::ElideMiddle, viewport()->width() - 2 * kSide);
        painter.fillRect(QRect(left, y, painter.fontMetrics().horizontalAdvance(name) + 3, 15), t.paper);
        painter.drawText(QRect(left, y, viewport()->width() - 2 * kSide, 15), Qt::AlignLeft | Qt::AlignVCenter, name);
        const QRectF box(std::min(from, to), y + 16, std::max(1.5, std::abs(to - from)), kBar);
        const QRectF notRunning = box.adjusted((1 - hatched) * box.width(), 0, 0, 0);
        if (hatched < 1) painter.fillRect(box.adjusted(0, 0, -hatched * box.width(), 0), color);
        if (hatched > 0) t.paintHatched(painter, notRunning, t.plum);
        painter.setFont(smallBoldFont());
        painter.setPen(t.text);
        const int room = painter.fontMetrics().horizontalAdvance(amount);
        double at = std::max(from, to) + 4;
        if (at + room > viewport()->width() - 4) at = std::min(from, to) - room - 4;
        painter.fillRect(QRectF(at - 1, y + 16, room + 3, kBar), t.paper);
        painter.drawText(QPointF(at, y + 16 + kBar - 2), amount);
        y += kStepHeight;
    };
    bar(usualTitle(), xOf(0), xOf(usual), t.headroom, toQString(msText(usual)) + " ms", 0);
    reached = usual;
    int64_t most = 1;
    for (const WaterfallStep& step : waterfall) most = std::max(most, std::abs(step.excess));
    for (const WaterfallStep& step : waterfall) {
        const double from = xOf(reached), to = xOf(reached += step.excess);
        const bool less = step.excess < 0;
        const double hatched =
            less ? 0 : std::clamp(static_cast<double>(step.notRunning) / static_cast<double>(step.excess), 0.0, 1.0);
        const QColor color =
            step.rest || less || !e.frames[frame].overrun
                ? t.markerEdge
                : t.highlight(0.4 + 0.6 * static_cast<double>(step.excess) / static_cast<double>(most));
        bar(toQString(step.title), from, to, color, toQString(signedMsText(step.excess)), hatched);
    }
    painter.setFont(smallFont());
    painter.setPen(t.muted);
    const QString words = tr("deadline %1 ms").arg(toQString(msText(deadline, 2)));
    const int room = painter.fontMetrics().horizontalAdvance(words);
    const double at = std::clamp<double>(due - room / 2.0, left, viewport()->width() - kSide - room);
    painter.drawText(QRectF(at, y + 2, room + 4, 14), Qt::AlignLeft | Qt::AlignVCenter, words);
    return y;
}

SourcePlace WhyPanel::placeOf(uint32_t cause) const {
    const Explanation& e = *document_.explanation();
    if (const FunctionId function = e.causes[cause].key.function; function != kNone) {
        const Symbols::Function& f = e.symbols->functions[function];
        if (!f.file.empty()) return {f.file, f.line};
    }
    const PathId path = e.causes[cause].path;
    if (!path) return {};
    const Site& site = e.recording->siteOf(path);
    return {site.file, site.line};
}

QString WhyPanel::sourceOf(uint32_t cause) const {
    const SourcePlace place = placeOf(cause);
    return toQString(place.file) + (place.line ? ":" + QString::number(place.line) : QString());
}

void WhyPanel::paintEvent(QPaintEvent*) {
    QPainter painter(viewport());
    const Theme& t = theme();
    painter.fillRect(viewport()->rect(), t.paper);
    painter.setRenderHint(QPainter::Antialiasing);
    painter.translate(0, -verticalScrollBar()->value());
    const int width = viewport()->width() - 2 * kSide;
    painter.setFont(titleFont());
    painter.setPen(t.text);
    painter.drawText(titleBox_, Qt::TextWordWrap, title());
    painter.setFont(textFont());
    if (!frame_) {
        painter.setPen(t.muted);
        painter.drawText(QRect(kSide, 34, width, 120), Qt::TextWordWrap, emptyWords());
        return;
    }
    painter.setPen(t.muted);
    painter.setFont(smallFont());
    painter.drawText(timesBox_, Qt::TextWordWrap, subtitle());
    paintWaterfall(painter, waterfallTop_);
    painter.setFont(smallFont());
    painter.setPen(t.muted);
    painter.drawText(countedBox_, Qt::TextWordWrap, counted());
    painter.fillRect(kSide, sentencesTop_ - 9, width, 1, t.line);
    painter.setFont(textFont());
    for (const Spoken& spoken : spoken_) {
        painter.setPen(t.text);
        painter.drawText(spoken.box, Qt::TextWordWrap, toQString(spoken.sentence.text));
        if (spoken.sentence.lane != kNone)
            painter.fillRect(QRect(spoken.box.left() - 8, spoken.box.top() + 2, 2, spoken.box.height() - 4), t.path);
    }
    painter.setFont(smallFont());
    painter.setPen(t.muted);
    painter.drawText(notedBox_, Qt::TextWordWrap, noted_);
    painter.setFont(textFont());
    if (const auto& e = document_.explanation(); e && selection_.cause() < e->causes.size()) {
        paintWhatIf(painter);
        const QString source = sourceOf(selection_.cause());
        painter.setFont(smallFont());
        painter.setPen(t.path);
        painter.drawText(QRect(kSide, sourceTop_, width, 16), Qt::AlignLeft | Qt::AlignVCenter,
                         painter.fontMetrics().elidedText(source, Qt::ElideLeft, width));
    }
    parts_->paintFocus(painter);
}

/// What is being tried, or else what the repair of the chosen cause would bring.
QString WhyPanel::whatIfWords() const {
    const auto& e = document_.explanation();
    if (!e || selection_.cause() >= e->causes.size()) return {};
    const auto prediction = document_.trials().repairs().empty()
                                ? document_.trials().predictionOf({selection_.cause(), false})
                                : document_.trials().prediction();
    return prediction ? toQString(whatIfSentence(*e, *prediction, selection_.cause())) : tr("Simulating…");
}

void WhyPanel::paintWhatIf(QPainter& painter) const {
    const Theme& t = theme();
    const int width = viewport()->width() - 2 * kSide;
    const QRect box(kSide, whatIfTop_, width, sourceTop_ - whatIfTop_ - 12);
    painter.setPen(Qt::NoPen);
    painter.setBrush(t.whatIf);
    painter.drawRoundedRect(box, 4, 4);
    painter.setPen(t.text);
    painter.setFont(boldFont());
    painter.drawText(box.adjusted(12, 9, -12, -6), Qt::TextWordWrap, whatIfWords());
    painter.setFont(smallFont());
    for (const Trial& trial : trials_) {
        const bool on = tried(trial);
        painter.setPen(QPen(t.path, 1));
        painter.setBrush(on ? t.path : t.paper);
        painter.drawRoundedRect(QRectF(trial.box).adjusted(0.5, 0.5, -0.5, -0.5), 4, 4);
        painter.setPen(on ? t.paper : t.path);
        painter.drawText(trial.box, Qt::AlignCenter, trial.choice.name);
    }
}

void WhyPanel::mousePressEvent(QMouseEvent* event) {
    if (event->button() == Qt::LeftButton) parts_->click(event->pos());
}

void WhyPanel::mouseMoveEvent(QMouseEvent* event) {
    const PaintedPart* part = parts_->at(event->pos());
    viewport()->setCursor(part && part->act ? Qt::PointingHandCursor : Qt::ArrowCursor);
}

void WhyPanel::keyPressEvent(QKeyEvent* event) {
    if (!parts_->press(*event)) QAbstractScrollArea::keyPressEvent(event);
}

void WhyPanel::contextMenuEvent(QContextMenuEvent* event) {
    QMenu menu(this);
    parts_->fillMenu(menu, event->pos());
    menu.exec(event->globalPos());
}

}  // namespace fugato
