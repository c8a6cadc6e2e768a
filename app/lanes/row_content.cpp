// SPDX-License-Identifier: GPL-3.0-or-later
#include "row_content.h"

#include <QColor>
#include <algorithm>
#include <cmath>

#include "app/theme/theme.h"

namespace fugato {

namespace {

constexpr uint32_t kCoarse = 32;                       // so many markers in one column of pixels: groups tell enough
constexpr uint32_t kLookedAt = 512;                    // markers of one column, for which are focused
constexpr uint32_t kExactMarkers = 1u << 19;           // with more in view their columns are hardly looked at
constexpr double kNamedWhenDense = 0.35;               // part of a column of pixels that is covered
constexpr double kLeastRun = 60;                       // px, to get a name together
constexpr double kRunGap = 3, kTooNarrowForName = 22;  // px

/// A colour that covers `part` of a pixel, as premultiplied images hold it.
QRgb shadeOf(QRgb rgb, double part) {
    const auto alpha = static_cast<uint32_t>(part * 255 + 0.5);
    const auto times = [alpha](int value) { return (static_cast<uint32_t>(value) * alpha + 127) / 255; };
    return alpha << 24 | times(qRed(rgb)) << 16 | times(qGreen(rgb)) << 8 | times(qBlue(rgb));
}

/// Less of a premultiplied colour.
QRgb dimmed(QRgb pixel, double part) {
    const auto times = [part](int value) { return static_cast<uint32_t>(value * std::min(part, 1.0) + 0.5); };
    return times(qAlpha(pixel)) << 24 | times(qRed(pixel)) << 16 | times(qGreen(pixel)) << 8 | times(qBlue(pixel));
}

class RowWork {
public:
    RowWork(const MarkerRow& markers, const RowView& view, RowContent& content)
        : markers_(markers),
          view_(view),
          content_(content),
          busyColor_(view.theme->markerEdge.rgb()),
          waitColor_(shadeOf(view.theme->waitingDots.rgb(), 0.6)),
          perNs_(static_cast<double>(view.width) / static_cast<double>(view.end - view.begin)),
          narrow_(static_cast<int64_t>(std::ceil(std::min(RowContent::kNarrow / perNs_, 1e18)))) {
        content.wide.clear();
        content.runs.clear();
        content.first = content.past = 0;
        content.markers = 0;
        content.unread.reset();
        // Where the columns themselves lie on a disk still, the groups have to do until they have come.
        firstGroup_ = markers.groupBefore(view.begin);
        const uint32_t past = std::min(markers.groupBefore(view.end) + MarkerRow::kGroup, markers.size());
        const uint32_t shown = past - std::min(firstGroup_, markers.size());
        if (!view.waits && shown < kExactMarkers && !markers.resident(firstGroup_, past)) {
            exact_ = false;
            content.unread = {firstGroup_, past};
        }
        coarse_ = !exact_ ? 1 : view.allExact ? UINT32_MAX : kCoarse;
    }

    void all() {
        uint32_t i = exact_ ? markers_.firstEndingAfter(view_.begin) : firstGroup_;
        int64_t roughBegin = INT64_MIN;  // where `i` begins about, if it was found from the groups alone
        while (i < markers_.size()) {
            const bool perhapsWide = mayBeWide(i);
            const int64_t begin = roughBegin != INT64_MIN && !perhapsWide ? roughBegin : beginOf(i);
            if (begin >= view_.end) break;
            if (perhapsWide && markers_.duration(i) >= narrow_) {
                addWide(i, begin);
                ++i;
                roughBegin = INT64_MIN;
            } else {
                i = addColumn(i, begin, roughBegin);
            }
        }
        endRun();
        content_.past = lastColumn_ + 1;
    }

private:
    double xOf(int64_t time) const { return static_cast<double>(time - view_.begin) * perNs_; }
    int64_t beginOf(uint32_t i) const {
        return i % MarkerRow::kGroup ? markers_.begin(i) : markers_.groups()[i >> MarkerRow::kGroupBits].begin;
    }
    bool onePath(uint32_t i) const {
        const auto [first, past] = markers_.sumsOf(i >> MarkerRow::kChunkBits);
        return past - first == 1;
    }
    bool mayBeWide(uint32_t i) const {
        const uint32_t longest = markers_.groups()[i >> MarkerRow::kGroupBits].longest;
        return exact_ && (longest >= narrow_ || longest == UINT32_MAX);
    }

    /// The path on which most of the time of the markers [from, past) was spent, about.
    PathId mostOf(uint32_t from, uint32_t past) const {
        return markers_.pathOf(past - from < MarkerRow::kGroup && exact_
                                   ? markers_.lanePath(from)
                                   : markers_.groups()[from >> MarkerRow::kGroupBits].path);
    }
    /// The part of the time of a column's markers that the focused ones took; of many, that of all in their chunk.
    double focusedPart(uint32_t from, const MarkerRow::Together& together) {
        const std::vector<uint8_t>& focused = *view_.focused;
        int64_t its = 0, all = 0;
        const auto add = [&](int64_t ns, uint32_t lanePath) {
            ns = std::max<int64_t>(1, ns);
            if (__builtin_add_overflow(all, ns, &all)) all = INT64_MAX;
            if (focused[markers_.pathOf(lanePath)] && __builtin_add_overflow(its, ns, &its)) its = INT64_MAX;
        };
        if (exact_ && together.past - from <= kLookedAt) {
            markers_.forEach(from, together.past,
                             [&](uint32_t, int64_t, int64_t duration, uint32_t path, uint8_t) { add(duration, path); });
        } else if (const uint32_t chunk = from >> MarkerRow::kChunkBits; chunk != chunk_) {
            chunk_ = chunk;
            const auto [first, past] = markers_.sumsOf(chunk);
            for (const PathSum* sum = first; sum != past; ++sum) add(sum->total, sum->path);
            chunkPart_ = static_cast<double>(its) / static_cast<double>(std::max<int64_t>(1, all));
            return chunkPart_;
        } else {
            return chunkPart_;
        }
        return static_cast<double>(its) / static_cast<double>(std::max<int64_t>(1, all));
    }

    void endRun() {
        if (run_.count > 2 && run_.right - run_.left > kLeastRun) content_.runs.push_back(run_);
        run_ = {};
    }
    void addToRun(PathId path, double left, double right, double highlight, size_t count, bool mostly) {
        if (path != run_.path || left - run_.right > kRunGap) endRun();
        if (!run_.count) run_.left = left;
        run_.path = path;
        run_.right = std::max(run_.right, right);
        run_.highlight = highlight;
        run_.count += count;
        run_.mostly = run_.mostly || mostly;
    }

    void addWide(uint32_t i, int64_t begin) {
        const double left = xOf(begin), right = xOf(begin + markers_.duration(i));
        content_.wide.push_back({i, left, right});
        ++content_.markers;
        const bool named = !view_.focused || (*view_.focused)[markers_.path(i)];
        if (named && right - left < kTooNarrowForName && !(markers_.flags(i) & kMarkerWait))
            addToRun(markers_.path(i), left, right, view_.highlight(markers_, i, i), 1, false);
        else
            endRun();
    }

    /// Everything from `i` on that begins in one column of pixels, except a last one that is wide. Returns what
    /// follows. (Casts round toward 0, and cost less than floor and ceil: this is the innermost loop of painting.)
    uint32_t addColumn(uint32_t i, int64_t begin, int64_t& roughBegin) {
        const int column = std::min(std::max(static_cast<int>(xOf(begin)), lastColumn_ + 1), view_.width - 1);
        const double columnEnd = (column + 1) / perNs_;
        const auto whole = static_cast<int64_t>(columnEnd);
        const int64_t next = view_.begin + whole + (static_cast<double>(whole) < columnEnd);
        MarkerRow::Together together = markers_.together(i, next, coarse_);
        uint32_t& j = together.past;
        if (j > i + 1 && mayBeWide(j - 1) && markers_.duration(j - 1) >= narrow_) {
            --j;
            if (!(markers_.flags(j) & kMarkerWait)) together.work -= markers_.duration(j);
        }
        markers_.expectGroup(j + 3 * (j - i));
        if (exact_ && !together.rough) markers_.expect(j + 3 * (j - i));
        const double covered =
            std::clamp(static_cast<double>(together.work) * perNs_, together.work > 0 ? 0.2 : 0.0, 1.0);
        const bool perhapsHighlit =
            j - i <= 4 && exact_ && begin < view_.highlightTo && next + narrow_ > view_.highlightFrom;
        const double highlight = perhapsHighlit ? view_.highlight(markers_, i, j - 1) : 0;
        if (lastColumn_ < 0) {
            content_.pixels.assign(static_cast<size_t>(view_.width), 0);
            content_.first = column;
        }
        lastColumn_ = column;
        QRgb& pixel = content_.pixels[static_cast<size_t>(column)];
        pixel = together.work <= 0 ? waitColor_
                : highlight > 0    ? shadeOf(view_.theme->highlight(highlight).rgb(), covered)
                                   : shadeOf(busyColor_, covered);
        const bool named = covered >= kNamedWhenDense;
        const PathId path = view_.tints || named ? mostOf(i, j) : 0;
        const uint8_t tint = view_.tints ? (*view_.tints)[path] : 0;
        if (tint && together.work > 0 && highlight <= 0) pixel = shadeOf(view_.theme->tint(tint).rgb(), covered);
        const double part = view_.focused ? focusedPart(i, together) : 1;
        if (view_.focused) pixel = dimmed(pixel, part > 0 ? std::max(part, 0.2 / std::max(covered, 0.2)) : view_.faded);
        if (named && part > 0) addToRun(path, column, column + 1, highlight, j - i, j - i > 1 && !onePath(i));
        content_.markers += j - i;
        roughBegin = together.rough && j % MarkerRow::kGroup ? next : INT64_MIN;
        return j;
    }

    const MarkerRow& markers_;
    const RowView& view_;
    RowContent& content_;
    const QRgb busyColor_, waitColor_;
    const double perNs_;
    const int64_t narrow_;  // ns
    uint32_t firstGroup_ = 0, coarse_ = 0;
    bool exact_ = true;
    RowContent::Run run_;
    int lastColumn_ = -1;
    uint32_t chunk_ = kNone;  // of
    double chunkPart_ = 0;
};

}  // namespace

void workOut(const MarkerRow& markers, const RowView& view, RowContent& content) {
    RowWork(markers, view, content).all();
}

}  // namespace fugato
