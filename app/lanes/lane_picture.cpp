// SPDX-License-Identifier: GPL-3.0-or-later
#include "lane_picture.h"

#include <QFontMetricsF>
#include <QObject>
#include <QPainter>
#include <algorithm>
#include <cmath>

#include "app/theme/theme.h"
#include "app/theme/words.h"
#include "core/explain/words/marker_words.h"
#include "core/explain/words/sentences.h"

namespace fugato {

namespace {

constexpr double kFaded = 0.28;
constexpr int kLeastTrackHeight = 22, kDenseHeight = 6;
constexpr size_t kMostInSlim = 24;  // lanes whose density is drawn where slim lanes are one
/// 1, 2 or 5 times a power of ten, at least `least`.
int64_t roundStep(double least) {
    double step = std::pow(10.0, std::floor(std::log10(std::max(least, 1.0))));
    for (const double factor : {1.0, 2.0, 5.0, 10.0})
        if (step * factor >= least) return static_cast<int64_t>(step * factor);
    return static_cast<int64_t>(step * 10);
}

/// A time on the ruler, with as many decimals as the step needs.
QString rulerText(int64_t ns, int64_t step) {
    const double size = std::max(std::abs(static_cast<double>(ns)), static_cast<double>(step));
    const auto [unit, name] = size >= 1e9   ? std::pair{1e9, "s"}
                              : size >= 1e6 ? std::pair{1e6, "ms"}
                              : size >= 1e3 ? std::pair{1e3, "µs"}
                                            : std::pair{1.0, "ns"};
    const int decimals =
        std::clamp(static_cast<int>(std::ceil(-std::log10(static_cast<double>(step) / unit) - 1e-9)), 0, 9);
    return QString::number(static_cast<double>(ns) / unit, 'f', decimals) + " " + name;
}

}  // namespace

void LanePicture::setRecording(std::shared_ptr<const Recording> recording, bool same) {
    recording_ = std::move(recording);
    if (!same) {
        rowsInSight_.clear();
        explanation_.reset();
        explained_.reset();
        tracks_.setPrograms(nullptr);
        cause_ = kNone;
        marker_ = {};
    }
    names_.setRecording(recording_);
    numberPaths();
    layOutTracks(same);
    if (inFocus_) leaveOutLanes();
}

void LanePicture::setArrangement(const LaneArrangement& arrangement) {
    LaneLayout::setArrangement(arrangement);
    numberPaths();
    layOutTracks(true);
}

void LanePicture::setInFocus(std::shared_ptr<const MarkersInFocus> kept) {
    inFocus_ = std::move(kept);
    numberPaths();
    leaveOutLanes();
}

/// Where some markers are shown alone, lanes that have none of them are not in the way.
void LanePicture::leaveOutLanes() {
    std::vector<bool> without;
    if (recording_ && inFocus_ && inFocus_->alone)
        for (const Lane& lane : recording_->lanes)
            without.push_back(std::none_of(lane.paths.begin(), lane.paths.end(),
                                           [&](PathId path) { return path && focusedPaths_[path]; }));
    setLeftOut(std::move(without));
}

/// What is drawn of a marker by the person's choice, by its path.
void LanePicture::numberPaths() {
    focusedPaths_.clear();
    tints_.clear();
    if (!recording_) return;
    std::vector<uint8_t> focusedSites(recording_->sites.size()), tints(recording_->sites.size());
    if (inFocus_)
        for (const uint32_t site : inFocus_->sites)
            if (site < focusedSites.size()) focusedSites[site] = 1;
    bool tinted = false;
    const auto& wanted = arrangement().tints;
    for (size_t site = 0; site < tints.size() && !wanted.empty(); ++site) {
        const Site& one = recording_->sites[site];
        for (const std::string& what : {"marker " + one.name, "category " + one.category})
            if (const auto tint = wanted.find(what); tint != wanted.end() && !tints[site]) {
                tints[site] = static_cast<uint8_t>(std::clamp(tint->second, 1, Theme::kTints));
                tinted = true;
            }
    }
    const size_t paths = recording_->paths.size();
    if (inFocus_) focusedPaths_.resize(paths);
    if (tinted) tints_.resize(paths);
    for (PathId path = 1; path < paths && (inFocus_ || tinted); ++path) {
        const uint32_t site = recording_->paths[path].site;
        if (inFocus_) focusedPaths_[path] = focusedSites[site];
        if (tinted) tints_[path] = tints[site];
    }
}

QString LanePicture::leftOut() const {
    QStringList words;
    if (const size_t lanes = hiddenLanes() + hiddenTracks()) words << QObject::tr("%1 hidden").arg(lanes);
    if (inFocus_)
        words
            << (inFocus_->alone ? QObject::tr("only %1") : QObject::tr("%1 not faded")).arg(toQString(inFocus_->words));
    return words.join(", ");
}

QRect LanePicture::leftOutRect(const QRect& area) const {
    return leftOut().isEmpty() ? QRect() : QRect(area.left() + 8, area.top() + 18, labelWidth() - 12, 16);
}

size_t LanePicture::hiddenTracks() const {
    if (arrangement().hidden.empty()) return 0;
    const auto& tracks = tracks_.tracks();
    return static_cast<size_t>(std::count_if(tracks.begin(), tracks.end(), [&](const TrackPicture::Track& track) {
        return arrangement().hidden.count(track.key()) > 0;
    }));
}

std::optional<size_t> LanePicture::trackAt(const QRect& area, int scrolled, const QPoint& at) const {
    if (at.y() < scrolledPart(area).top()) return std::nullopt;
    for (size_t track = 0; track < trackCount(); ++track)
        if (trackRect(area, scrolled, track).contains(at)) return track;
    return std::nullopt;
}

void LanePicture::setPrograms(std::shared_ptr<const OtherProgramList> programs) {
    tracks_.setPrograms(std::move(programs));
    layOutTracks(true);
}

void LanePicture::layOutTracks(bool same) {
    tracks_.setRecording(recording_);
    std::vector<int> trackHeights;
    for (const TrackPicture::Track& track : tracks_.tracks())
        trackHeights.push_back(arrangement().hidden.count(track.key()) ? 0 : std::max(track.height, kLeastTrackHeight));
    layOut(recording_, std::move(trackHeights), same);
}

void LanePicture::setExplanation(std::shared_ptr<const Explanation> explanation, uint32_t cause) {
    explanation_ = std::move(explanation);
    cause_ = cause;
}

void LanePicture::setFrame(std::shared_ptr<const ExplainedFrame> frame, uint32_t cause) {
    cause_ = cause;
    const bool same = frame && explained_ && frame->frame == explained_->frame;
    explained_ = std::move(frame);
    setOnPath(explained_ ? explained_->onPath : std::vector<bool>(), same);
}

/// The strongest highlight of a few markers; none outside the chosen frame.
double LanePicture::highlightAt(uint32_t lane, const MarkerRow& row, uint32_t first, uint32_t last) const {
    if (!explained_) return 0;
    const Frame& f = explained_->times();
    if (row.begin(first) >= f.end || row.end(last) <= f.begin) return 0;
    double highlight = 0;
    for (uint32_t i = first; i <= last && i < first + 4; ++i)
        highlight = std::max(highlight, explained_->strengthOf(recording_->lanes[lane].group, row.path(i)));
    return highlight;
}

void LanePicture::paintRunName(QPainter& painter, const QRect& axis, const QRectF& box, const RowContent::Run& run) {
    const Theme& t = theme();
    const auto& [path, from, to, highlight, count, mostly] = run;
    painter.setFont(smallFont());
    const QString name = toQString(recording_->nameOf(path));
    const QString words = mostly ? QObject::tr("mostly %1, %2").arg(name, toQString(plural(count, "marker", "markers")))
                                 : name + QString(" ×%1").arg(toQString(countText(count)));
    const double left = std::max<double>(box.left(), axis.left()) + 4,
                 room = std::min<double>(box.right(), axis.right()) - left - 3;
    const double width = painter.fontMetrics().horizontalAdvance(words);
    if (width > room) return;
    words_.emplace_back(left - 2, box.top() + 1, width + 4, box.height() - 2);
    painter.fillRect(words_.back(), highlight > 0 ? t.highlight(highlight) : t.marker);
    painter.setPen(highlight > 0 ? wordsOn(t.highlight(highlight)) : t.markerText);
    painter.drawText(QRectF(left, box.top(), width + 2, box.height()), Qt::AlignLeft | Qt::AlignVCenter, words);
}

void LanePicture::paintMarker(QPainter& painter, const QRect& axis, const QRectF& box, uint32_t lane,
                              const MarkerRow& row, uint32_t index) {
    const Theme& t = theme();
    const PathId path = row.path(index);
    const bool wait = row.flags(index) & kMarkerWait;
    const double highlight = highlightAt(lane, row, index, index);
    // Whole pixels: the raster fills those quickest.
    const int x = static_cast<int>(std::floor(box.left())), y = static_cast<int>(box.top());
    const int width = std::max(1, static_cast<int>(std::floor(box.right())) - x),
              height = static_cast<int>(box.height());
    const QRect pixels(x, y, width, height);
    const bool strong = highlight > 0.55;
    const bool faded = inFocus_ && !focusedPaths_[path];
    if (faded) painter.setOpacity(kFaded);
    const int tint = tints_.empty() ? 0 : tints_[path];
    if (wait && strong && width >= 4) {
        t.paintHatched(painter, pixels, t.plum);
    } else {
        painter.fillRect(pixels, wait            ? t.waiting
                                 : highlight > 0 ? t.highlight(highlight)
                                 : tint          ? t.tint(tint)
                                                 : t.marker);
        if (wait && width >= 12) painter.fillRect(pixels, QBrush(t.waitingDots, Qt::Dense7Pattern));
        if (width >= 4) {
            const QColor edge = strong && !wait ? t.plumMiddle : highlight > 0.3 && !wait ? t.plum : t.markerEdge;
            painter.fillRect(x, y, width, 1, edge);
            painter.fillRect(x, y + height - 1, width, 1, edge);
            painter.fillRect(x, y + 1, 1, height - 2, edge);
            painter.fillRect(x + width - 1, y + 1, 1, height - 2, edge);
        }
    }
    const double left = std::max<double>(box.left(), axis.left()) + 4,
                 room = std::min<double>(box.right(), axis.right()) - left - 3;
    // No path: what was kept of it could not be read.
    const QStaticText* const words = room < 16 || !path ? nullptr : names_.fitting(recording_->paths[path].site, room);
    if (!words) return painter.setOpacity(1);
    words_.emplace_back(left - 2, box.top() + 1, words->size().width() + 4, box.height() - 2);
    if (wait) painter.fillRect(words_.back().adjusted(0, 1, 0, -1), t.waiting);
    painter.setPen(highlight > 0 && !wait ? wordsOn(t.highlight(highlight))
                   : tint && !wait        ? wordsOn(t.tint(tint))
                                          : t.markerText);
    painter.drawStaticText(QPointF(left, box.top() + (box.height() - words->size().height()) / 2), *words);
    painter.setOpacity(1);
}

/// The rows in sight of lanes that stay at the top, or of the others.
void LanePicture::addRows(const QRect& area, int scrolled, bool ofFixed) {
    const QRect axis = ofFixed ? axisOf(area) : scrolledPart(area);
    for (uint32_t lane = 0; lane < laneCount(); ++lane) {
        const QRect box = laneRect(area, scrolled, lane);
        if (!hasPlace(lane) || fixed(lane) != ofFixed || box.bottom() < axis.top() || box.top() > axis.bottom())
            continue;
        for (uint32_t row = 0; row < rowsShown(lane); ++row) {
            const int top = box.top() + kRail + static_cast<int>(row) * kRowHeight;
            if (top + kRowHeight < axis.top() || top > axis.bottom()) continue;
            rowsInSight_.push_back({lane, row, top, lane, false});
        }
        if (!slim(lane)) continue;
        std::vector<uint32_t> lanes = lanesIn(lane);
        if (lanes.size() > kMostInSlim) lanes.resize(kMostInSlim);
        for (const uint32_t one : lanes)
            if (!recording_->lanes[one].rows.empty())
                rowsInSight_.push_back({one, 0, box.center().y() - kDenseHeight / 2, lane, true});
    }
}

/// Has it worked out on other threads what the rows in sight show, while this one paints.
void LanePicture::workOutRows(const QRect& area, int scrolled) {
    const QRect axis = axisOf(area);
    rowsInSight_.clear();
    for (const bool fixed : {false, true}) addRows(area, scrolled, fixed);
    if (contents_.size() < rowsInSight_.size()) contents_.resize(rowsInSight_.size());
    RowView view;
    view.theme = &theme();
    view.begin = begin();
    view.end = end();
    view.width = axis.width();
    view.waits = waits_;
    view.allExact = allExact_;
    view.focused = inFocus_ ? &focusedPaths_ : nullptr;
    view.tints = tints_.empty() ? nullptr : &tints_;
    view.faded = inFocus_ && inFocus_->alone ? 0 : kFaded;
    if (explained_ && !explained_->strengths.empty()) {
        view.highlightFrom = explained_->times().begin;
        view.highlightTo = explained_->times().end;
    }
    rowsAhead_.emplace(rowsInSight_.size(), [this, view](size_t at) {
        const RowInSight& it = rowsInSight_[at];
        RowView own = view;
        own.highlight = [this, lane = it.lane](const MarkerRow& row, uint32_t first, uint32_t last) {
            return highlightAt(lane, row, first, last);
        };
        workOut(recording_->lanes[it.lane].rows[it.row], own, contents_[at]);
    });
}

/// When a slim lane was at work, as a thin bar; waits are left out. Several lie over each other.
void LanePicture::paintSlimRow(QPainter& painter, const QRect& axis, size_t inSight) {
    const RowInSight& it = rowsInSight_[inSight];
    const RowContent& content = contents_[inSight];
    const MarkerRow& markers = recording_->lanes[it.lane].rows[it.row];
    QColor color = theme().markerEdge;
    color.setAlpha(standsFor(it.shownIn) > 1 ? 90 : 170);
    for (const RowContent::Wide& wide : content.wide) {
        if (markers.flags(wide.index) & kMarkerWait || !shows(markers.path(wide.index))) continue;
        const double left = std::max<double>(axis.left() + wide.left, axis.left()),
                     right = std::min<double>(axis.left() + wide.right, axis.right() + 1);
        painter.fillRect(QRectF(left, it.top, right - left, kDenseHeight), color);
    }
    for (int x = content.first; x < content.past; ++x) {
        color.setAlpha(qAlpha(content.pixels[static_cast<size_t>(x)]) * (standsFor(it.shownIn) > 1 ? 90 : 170) / 255);
        painter.fillRect(axis.left() + x, it.top, 1, kDenseHeight, color);
    }
}

void LanePicture::paintRow(QPainter& painter, const QRect& axis, size_t inSight) {
    rowsAhead_->need(inSight);
    if (rowsInSight_[inSight].slim) return paintSlimRow(painter, axis, inSight);
    const RowInSight& it = rowsInSight_[inSight];
    const RowContent& content = contents_[inSight];
    shown_ += content.markers;
    if (content.unread) missing_.push_back({it.lane, it.row, content.unread->from, content.unread->to});
    const MarkerRow& markers = recording_->lanes[it.lane].rows[it.row];
    const int height = kRowHeight - 1;
    for (const RowContent::Wide& wide : content.wide) {
        if (!shows(markers.path(wide.index))) continue;
        const double left = std::max<double>(axis.left() + wide.left, axis.left() - 2),
                     right = std::min<double>(axis.left() + wide.right, axis.right() + 3);
        paintMarker(painter, axis, QRectF(left, it.top, right - left, height), it.lane, markers, wide.index);
    }
    if (const int columns = content.past - content.first; columns > 0) {
        // One pixel high, stretched over the row.
        const QImage dense(reinterpret_cast<const uchar*>(content.pixels.data() + content.first), columns, 1,
                           QImage::Format_ARGB32_Premultiplied);
        painter.drawImage(QRect(axis.left() + content.first, it.top, columns, height), dense);
    }
    for (const RowContent::Run& run : content.runs)
        paintRunName(painter, axis, QRectF(axis.left() + run.left, it.top, run.right - run.left, height), run);
}

/// What is known of a lane that is still being read: when its events lie, darker where they lie closer.
void LanePicture::paintUnread(QPainter& painter, const QRect& axis, const QRect& box, const Lane& lane) {
    const Theme& t = theme();
    double most = 0;
    for (const Lane::Unread& block : lane.unread)
        most = std::max(most, static_cast<double>(block.events) /
                                  static_cast<double>(std::max<int64_t>(1, block.end - block.begin)));
    const double perNs = static_cast<double>(axis.width()) / static_cast<double>(end() - begin());
    for (const Lane::Unread& block : lane.unread) {
        if (block.end <= begin() || block.begin >= end()) continue;
        const double left = std::max<double>(axis.left(),
                                             axis.left() + static_cast<double>(block.begin - begin()) * perNs),
                     right = std::min<double>(axis.right() + 1,
                                              axis.left() + static_cast<double>(block.end - begin()) * perNs);
        const double events =
            static_cast<double>(block.events) / static_cast<double>(std::max<int64_t>(1, block.end - block.begin));
        QColor color = t.markerEdge;
        color.setAlphaF(static_cast<float>(0.12 + 0.5 * events / std::max(most, 1e-12)));
        painter.fillRect(QRectF(left, box.top() + kRail, std::max(1.0, right - left), kRowHeight - 1), color);
    }
}

/// Zoomed out, the rail of the cause's own lane shows the frames it made late.
void LanePicture::paintStrikes(QPainter& painter, const QRect& area, const QRect& box, const Lane& lane) {
    if (!explanation_ || cause_ >= explanation_->causes.size() || explanation_->causes[cause_].group != lane.group)
        return;
    const auto& frames = explanation_->causes[cause_].frames;
    const auto first = std::lower_bound(frames.begin(), frames.end(), begin(),
                                        [&](uint32_t f, int64_t time) { return explanation_->frame(f).end < time; });
    for (auto at = first; at != frames.end() && explanation_->frame(*at).begin < end();) {
        const double left = xAt(area, explanation_->frame(*at).begin), right = xAt(area, explanation_->frame(*at).end);
        if (right - left > 12) return;  // near enough to be seen by itself
        const int x = static_cast<int>(std::floor(left));
        painter.fillRect(QRect(x, box.top() + 4, 2, kRail - 5), theme().plum);
        // On to the first that is not drawn over by this one.
        at = std::partition_point(at + 1, frames.end(), [&, next = timeAt(area, x + 2)](uint32_t f) {
            return explanation_->frame(f).begin < next;
        });
    }
}

/// Where the chosen frame's lanes could have gone on, had they had a core: hatched, over the marker in which that was.
void LanePicture::paintStarved(QPainter& painter, const QRect& area, const QRect& box, uint32_t lane) {
    const Theme& t = theme();
    const QRect axis = axisOf(area);
    painter.setFont(smallFont());
    if (!explained_) return;
    for (const Segment& segment : explained_->contended) {
        if (segment.lane != lane || segment.end <= begin() || segment.begin >= end()) continue;
        const double left = std::max<double>(axis.left(), xAt(area, segment.begin)),
                     right = std::min<double>(axis.right() + 1, xAt(area, segment.end));
        if (right - left < 1) continue;
        const size_t shown = std::max<size_t>(1, rowsShown(lane)),
                     row = std::min<size_t>(segment.marker.row, shown - 1);
        const QRectF held(left, box.top() + kRail + static_cast<int>(row) * kRowHeight, right - left, kRowHeight - 1);
        t.paintHatched(painter, held, t.plum);
        const QString words =
            QObject::tr("CPU contention: %1").arg(toQString(coreHolderText(*recording_, segment.coreHolder)));
        const int width = painter.fontMetrics().horizontalAdvance(words);
        if (width + 12 > held.width()) continue;
        words_.emplace_back(left + 2, held.top() + 2, width + 4, held.height() - 4);
        painter.fillRect(words_.back(), t.waiting);
        painter.setPen(t.markerText);
        painter.drawText(held.adjusted(4, 0, 0, 0), Qt::AlignLeft | Qt::AlignVCenter, words);
    }
}

void LanePicture::paintLane(QPainter& painter, const QRect& area, const QRect& box, uint32_t index) {
    const Theme& t = theme();
    const Lane& lane = recording_->lanes[index];
    const QRect axis = axisOf(area);
    painter.fillRect(QRect(area.left(), box.bottom(), area.width(), 1), t.line);
    painter.setClipRect(QRect(axis.left(), std::max(box.top(), axis.top()), axis.width(),
                              box.bottom() - std::max(box.top(), axis.top())));
    painter.setFont(smallFont());
    if (!lane.unread.empty()) paintUnread(painter, axis, box, lane);
    for (; nextRow_ < rowsInSight_.size() && rowsInSight_[nextRow_].shownIn == index; ++nextRow_)
        paintRow(painter, axis, nextRow_);
    if (foldable(index) && !slim(index)) {
        const QRect fold(axis.left(), box.top() + kRail + static_cast<int>(rowsShown(index)) * kRowHeight, axis.width(),
                         kRowHeight - 1);
        painter.fillRect(fold, t.panel);
        painter.setPen(t.path);
        painter.drawText(fold.adjusted(6, 0, -6, 0), Qt::AlignLeft | Qt::AlignVCenter,
                         folded(index) ? QObject::tr("%1 deeper rows are folded; click here to open them")
                                             .arg(toQString(countText(rowsFolded(index))))
                                       : QObject::tr("click here to fold the deeper rows"));
    }
    if (!slim(index)) paintStarved(painter, area, box, index);
    paintStrikes(painter, area, box, lane);
    if (!lane.schedule.empty() && standsFor(index) <= 1)
        TrackPicture::paintSchedule(painter, timeAxis(area, box), box.top() + kRail - 4, lane);
    for (const LostEvents& lost : lane.lost) {  // where events are missing
        const double x = xAt(area, lost.time);
        if (x < axis.left() || x > axis.right()) continue;
        painter.fillRect(QRectF(x - 3, box.top() + kRail - 4, 6, box.height() - kRail - kLaneGap + 6),
                         QBrush(t.plum, Qt::BDiagPattern));
    }
    paintLabel(painter, area, box, labelOf(index), detailOf(index), onPath(index), index == selectedLane_);
}

QString LanePicture::labelOf(uint32_t lane) const {
    const size_t lanes = standsFor(lane);
    const uint32_t group = recording_->lanes[lane].group;
    const bool ofGroup = lanes > 1 && group < keys().groups.size() && arrangement().folded.count(keys().groups[group]);
    if (ofGroup) return QObject::tr("%1, %2 lanes").arg(toQString(recording_->groups[group].name)).arg(lanes);
    return lanes <= 1         ? toQString(recording_->lanes[lane].name)
           : fromSystem(lane) ? QObject::tr("%1 unmarked").arg(lanes)
                              : QObject::tr("%1 other lanes").arg(lanes);
}

QString LanePicture::detailOf(uint32_t index) const {
    const Lane& lane = recording_->lanes[index];
    if (!lane.unread.empty()) return QObject::tr("being read…");
    if (lane.rows.empty()) return QObject::tr("no markers");
    const int64_t ran =
        lane.schedule.empty() ? lane.busyBetween(begin(), end()) : lane.splitBetween(begin(), end()).ran;
    return QObject::tr("busy %1 %")
        .arg(static_cast<double>(ran) / static_cast<double>(end() - begin()) * 100, 0, 'f', 0);
}

std::vector<MarkerRef> LanePicture::drawnAlone() const {
    std::vector<MarkerRef> markers;
    for (size_t at = 0; at < rowsInSight_.size(); ++at) {
        if (rowsInSight_[at].slim) continue;
        const MarkerRow& row = recording_->lanes[rowsInSight_[at].lane].rows[rowsInSight_[at].row];
        for (const RowContent::Wide& wide : contents_[at].wide)
            if (shows(row.path(wide.index)))
                markers.push_back({rowsInSight_[at].lane, rowsInSight_[at].row, wide.index});
    }
    return markers;
}

void LanePicture::paintLabel(QPainter& painter, const QRect& area, const QRect& box, const QString& name,
                             const QString& detail, bool strong, bool selected) {
    const Theme& t = theme();
    const QRect axis = axisOf(area);
    painter.setClipRect(QRect(area.left(), axis.top(), labelWidth(), axis.height()));
    painter.fillRect(QRect(area.left(), box.top(), labelWidth() - 1, box.height() - 1), t.panel);
    painter.fillRect(QRect(area.left() + labelWidth() - 1, box.top(), 1, box.height()), t.line);
    painter.setFont(strong ? boldFont() : textFont());
    painter.setPen(t.text);
    const QRect label(area.left() + 10, box.top() + 3, labelWidth() - 16, 15);
    painter.drawText(label, Qt::AlignLeft | Qt::AlignVCenter,
                     painter.fontMetrics().elidedText(name, Qt::ElideMiddle, label.width()));
    if (selected) painter.fillRect(QRect(area.left(), box.top(), 4, box.height() - 1), t.text);
    if (box.height() >= 32) {
        painter.setFont(smallFont());
        painter.setPen(t.muted);
        painter.drawText(label.translated(0, 14), Qt::AlignLeft | Qt::AlignVCenter,
                         painter.fontMetrics().elidedText(detail, Qt::ElideRight, label.width()));
    }
    painter.setClipping(false);
}

TimeAxis LanePicture::timeAxis(const QRect& area, const QRect& box) const {
    const QRect axis = axisOf(area);
    return {QRect(axis.left(), box.top(), axis.width(), box.height()), begin(), end()};
}

void LanePicture::paintTrack(QPainter& painter, const QRect& area, const QRect& box, size_t track) {
    const QRect axis = axisOf(area);
    painter.fillRect(QRect(area.left(), box.bottom(), area.width(), 1), theme().line);
    painter.setClipRect(QRect(axis.left(), box.top(), axis.width(), box.height() - 1).intersected(axis));
    tracks_.paint(painter, timeAxis(area, box), track);
    const TrackPicture::Track& what = tracks_.tracks()[track];
    paintLabel(painter, area, box, what.name, what.detail, false);
}

QString LanePicture::wordsAt(const QRect& area, int scrolled, const QPoint& at) const {
    if (!recording_ || at.y() < area.top() + kHeaderHeight) return {};
    const bool onLabel = at.x() < axisOf(area).left();
    if (const auto track = trackAt(area, scrolled, at)) {
        const TrackPicture::Track& what = tracks_.tracks()[*track];
        if (onLabel)
            return what.name.toHtmlEscaped() + (what.detail.isEmpty() ? "" : "<br>" + what.detail.toHtmlEscaped());
        return tracks_.wordsAt(timeAxis(area, trackRect(area, scrolled, *track)), *track, at);
    }
    const uint32_t lane = laneAt(area, scrolled, at.y());
    if (lane == kNone) return {};
    const QString name = toQString(recording_->lanes[lane].name).toHtmlEscaped();
    if (onLabel) return labelOf(lane).toHtmlEscaped() + "<br>" + detailOf(lane).toHtmlEscaped();
    for (const LostEvents& lost : recording_->lanes[lane].lost)
        if (std::abs(xAt(area, lost.time) - at.x()) < 5)
            return QObject::tr("<b>%1</b>: %2 before this instant are missing")
                .arg(name, toQString(plural(lost.events, "event", "events")));
    const QString words = toQString(scheduleText(*recording_, recording_->lanes[lane], timeAt(area, at.x())));
    return words.isEmpty() ? QString() : "<b>" + name + "</b>: " + words.toHtmlEscaped();
}

const Point* LanePicture::pointAt(const QRect& area, int scrolled, const QPoint& at) const {
    if (!recording_ || !axisOf(area).contains(at)) return nullptr;
    const auto track = trackAt(area, scrolled, at);
    return track ? tracks_.pointAt(timeAxis(area, trackRect(area, scrolled, *track)), *track, at) : nullptr;
}

/// Near the selected frame the ruler counts from its begin, else from the recording's start.
int64_t LanePicture::rulerZero() const {
    if (!explained_) return 0;
    const Frame& f = explained_->times();
    const bool near = end() - begin() < 40 * std::max<int64_t>(f.duration(), 1);
    return near && f.begin < end() && f.end > begin() ? f.begin : 0;
}

int64_t LanePicture::rulerStep(const QRect& area) const {
    constexpr int kApart = 70;  // pixels
    return roundStep(static_cast<double>(end() - begin()) / std::max(1, axisOf(area).width()) * kApart);
}

/// What lies below the markers in a part of the picture: the selected frame, and the ruler's lines.
void LanePicture::paintGround(QPainter& painter, const QRect& area, const QRect& part) {
    const Theme& t = theme();
    const QRect axis = axisOf(area), ground(axis.left(), part.top(), axis.width(), part.height());
    painter.fillRect(part, t.paper);
    if (explained_) {
        const Frame& f = explained_->times();
        const double left = std::max<double>(axis.left(), xAt(area, f.begin)),
                     right = std::min<double>(axis.right() + 1, xAt(area, f.end));
        QColor tone = t.path;
        tone.setAlpha(t.dark ? 22 : 12);
        if (right > left) painter.fillRect(QRectF(left, ground.top(), right - left, ground.height()), tone);
    }
    QColor rule = t.line;
    rule.setAlpha(130);
    const int64_t zero = rulerZero(), step = rulerStep(area);
    for (int64_t at = (begin() - zero) / step * step; at + zero < end(); at += step)
        if (at + zero >= begin())
            painter.fillRect(QRect(static_cast<int>(xAt(area, at + zero)), ground.top(), 1, ground.height()), rule);
}

void LanePicture::paintHeader(QPainter& painter, const QRect& area) {
    const Theme& t = theme();
    const QRect axis = axisOf(area);
    const QRect head(area.left(), area.top(), area.width(), kHeaderHeight);
    painter.fillRect(head, t.panel);
    painter.fillRect(QRect(head.left(), head.bottom(), head.width(), 1), t.line);
    const int64_t zero = rulerZero();
    const int64_t step = rulerStep(area);
    painter.setFont(smallFont());
    painter.setClipRect(QRect(axis.left(), area.top(), axis.width(), area.height()));
    for (int64_t at = (begin() - zero) / step * step; at + zero < end(); at += step) {
        if (at + zero < begin()) continue;
        const int x = static_cast<int>(xAt(area, at + zero));
        painter.fillRect(QRect(x, head.bottom() - 5, 1, 5), t.muted);
        painter.setPen(t.muted);
        painter.drawText(QRect(x + 3, head.top() + 2, 90, 15), Qt::AlignLeft | Qt::AlignVCenter, rulerText(at, step));
    }
    // Frames: where each begins, the late ones in highlight; drawn once per column of pixels.
    if (explanation_) {
        const auto& e = *explanation_;
        const Series& series = recording_->series[e.series];
        uint32_t i = series.frameAt(begin());
        if (i == kNone) i = 0;
        const int y = head.bottom() - 15;
        while (i < e.frames.size() && e.frame(i).begin < end()) {
            const double left = xAt(area, e.frame(i).begin), right = xAt(area, e.frame(i).end);
            if (right - left >= 3) {
                const QRectF bar(left, y, right - left, 3);
                painter.fillRect(bar, e.frames[i].overrun ? t.plum : t.headroom);
                if (right - left > 64 && !(explained_ && i == explained_->frame)) {
                    const QString number = QString::number(i);
                    const QRectF room(QPointF(std::max<double>(left, axis.left()) + 3, y + 3), QPointF(right, y + 15));
                    painter.setPen(t.muted);
                    if (painter.fontMetrics().horizontalAdvance(number) <
                        room.width())  // at the left edge less is seen
                        painter.drawText(room, Qt::AlignLeft | Qt::AlignVCenter, number);
                }
                ++i;
                continue;
            }
            const auto next = timeAt(area, std::floor(left) + 1);
            const uint32_t j = std::min(series.firstFrom(next, i + 1), static_cast<uint32_t>(e.frames.size()));
            const auto spike = std::lower_bound(e.spikes.begin(), e.spikes.end(), i,
                                                [](const Spike& s, uint32_t f) { return s.last < f; });
            const bool late = spike != e.spikes.end() && spike->first < j;
            painter.fillRect(QRectF(std::floor(left), y, late ? 2 : 1, 3), late ? t.plum : t.headroom);
            i = j;
        }
    }
    painter.setClipping(false);
    painter.setPen(t.muted);
    painter.drawText(QRect(area.left() + 10, head.top() + 2, labelWidth() - 14, 15), Qt::AlignLeft | Qt::AlignVCenter,
                     zero ? QObject::tr("from frame begin") : QObject::tr("from the start"));
    if (const QRect box = leftOutRect(area); !box.isEmpty()) {
        painter.setPen(t.path);
        painter.drawText(box, Qt::AlignLeft | Qt::AlignVCenter,
                         painter.fontMetrics().elidedText(leftOut() + " ▾", Qt::ElideMiddle, box.width()));
    }
}

void LanePicture::paintLanes(QPainter& painter, const QRect& area, int scrolled, bool ofFixed) {
    const QRect axis = ofFixed ? axisOf(area) : scrolledPart(area);
    for (uint32_t lane = 0; lane < laneCount(); ++lane) {
        const QRect box = laneRect(area, scrolled, lane);
        if (!hasPlace(lane) || fixed(lane) != ofFixed || box.bottom() < axis.top() || box.top() > axis.bottom())
            continue;
        paintLane(painter, area, box, lane);
    }
}

void LanePicture::paint(QPainter& painter, const QRect& area, int scrolled) {
    const Theme& t = theme();
    shown_ = 0;
    missing_.clear();
    words_.clear();
    painter.fillRect(area, t.paper);
    if (!recording_) return;
    const QRect axis = axisOf(area);
    workOutRows(area, scrolled);
    paintGround(painter, area, QRect(area.left(), axis.top(), area.width(), axis.height()));
    nextRow_ = 0;
    paintLanes(painter, area, scrolled, false);
    for (size_t track = 0; track < trackCount(); ++track) {
        const QRect box = trackRect(area, scrolled, track);
        if (box.isEmpty() || box.bottom() < scrolledPart(area).top() || box.top() > axis.bottom()) continue;
        paintTrack(painter, area, box, track);
    }
    if (pinnedHeight()) {
        const QRect top(area.left(), axis.top(), area.width(), pinnedHeight());
        paintGround(painter, area, top);
        paintLanes(painter, area, scrolled, true);
        painter.fillRect(QRect(top.left(), top.bottom() - 1, top.width(), 2), t.markerEdge);
    }
    rowsAhead_.reset();
    const std::vector<QRectF> inTracks = tracks_.takeWords();
    words_.insert(words_.end(), inTracks.begin(), inTracks.end());
    paintFrameEdges(painter, area, false);
    paintCriticalPath(painter, area, scrolled);
    if (marker_.valid()) {
        const QRect box = markerRect(area, scrolled, marker_);
        if (!box.isEmpty()) {
            painter.setPen(QPen(t.text, 2));
            painter.setBrush(Qt::NoBrush);
            painter.drawRect(box.adjusted(0, 0, -1, -1));
        }
    }
    paintConnections(painter, area, scrolled);
    paintHeader(painter, area);  // over the lanes, where a picture that cannot be clipped is made
    paintFrameEdges(painter, area, true);
    paintRange(painter, area);
    paintMarks(painter, area);
    if (dropLine_ != kNoDrop) painter.fillRect(QRect(area.left(), dropLine_ - 1, area.width(), 3), t.text);
}

}  // namespace fugato
