// SPDX-License-Identifier: GPL-3.0-or-later
#include "row_content.h"

#include <QColor>
#include <algorithm>
#include <cmath>

#include "app/theme/theme.h"

namespace fugato {

namespace {

constexpr uint32_t kCoarse = 32;              // so many markers in one column of pixels: groups tell enough
constexpr uint32_t kExactMarkers = 1u << 19;  // with more in view their columns are hardly looked at
constexpr double kNamedWhenDense = 0.35;      // part of a column of pixels that is covered
constexpr double kLeastRun = 60;              // px

/// A colour that covers `part` of a pixel, as premultiplied images hold it.
QRgb shadeOf(QRgb rgb, double part) {
    const auto alpha = static_cast<uint32_t>(part * 255 + 0.5);
    const auto times = [alpha](int value) { return (static_cast<uint32_t>(value) * alpha + 127) / 255; };
    return alpha << 24 | times(qRed(rgb)) << 16 | times(qGreen(rgb)) << 8 | times(qBlue(rgb));
}

}  // namespace

void workOut(const MarkerRow& markers, const RowView& view, RowContent& content) {
    const Theme& t = theme();
    const QRgb busyColor = t.markerEdge.rgb(), waitColor = shadeOf(t.waitingDots.rgb(), 0.6);
    content.wide.clear();
    content.runs.clear();
    content.first = content.past = 0;
    content.markers = 0;
    content.unread.reset();

    const double perNs = static_cast<double>(view.width) / static_cast<double>(view.end - view.begin);
    const double nsPerPixel = 1 / perNs;
    const auto narrow = static_cast<int64_t>(std::ceil(std::min(RowContent::kNarrow * nsPerPixel, 1e18)));  // ns
    const auto& groups = markers.groups();
    // Where the columns themselves lie on a disk still, the groups have to do until they have come.
    const uint32_t firstGroup = markers.groupBefore(view.begin),
                   pastGroup = markers.groupBefore(view.end) + MarkerRow::kGroup;
    const uint32_t shown = std::min(pastGroup, markers.size()) - std::min(firstGroup, markers.size());
    bool exact = true;
    if (!view.waits && shown < kExactMarkers && !markers.resident(firstGroup, std::min(pastGroup, markers.size()))) {
        exact = false;
        content.unread = {firstGroup, std::min(pastGroup, markers.size())};
    }
    const uint32_t coarse = !exact ? 1 : view.allExact ? UINT32_MAX : kCoarse;
    const auto xOf = [&](int64_t time) { return static_cast<double>(time - view.begin) * perNs; };
    const auto beginOf = [&](uint32_t i) {
        return i % MarkerRow::kGroup ? markers.begin(i) : groups[i >> MarkerRow::kGroupBits].begin;
    };
    const auto onePath = [&](uint32_t i) {
        const auto [first, past] = markers.sumsOf(i >> MarkerRow::kChunkBits);
        return past - first == 1;
    };
    const auto mayBeWide = [&](uint32_t i) {
        const uint32_t longest = groups[i >> MarkerRow::kGroupBits].longest;
        return exact && (longest >= narrow || longest == UINT32_MAX);
    };
    RowContent::Run run;
    const auto endRun = [&] {
        if (run.count > 2 && run.right - run.left > kLeastRun) content.runs.push_back(run);
        run = {};
    };
    const auto addToRun = [&](PathId path, double left, double right, double highlight, size_t count, bool mostly) {
        if (path != run.path || left - run.right > 3) endRun();
        if (!run.count) run.left = left;
        run.path = path;
        run.right = std::max(run.right, right);
        run.highlight = highlight;
        run.count += count;
        run.mostly = run.mostly || mostly;
    };
    uint32_t i = exact ? markers.firstEndingAfter(view.begin) : firstGroup;
    int lastColumn = -1;
    int64_t roughBegin = INT64_MIN;  // where `i` begins about, if it was found from the groups alone
    while (i < markers.size()) {
        const bool perhapsWide = mayBeWide(i);
        const int64_t begin = roughBegin != INT64_MIN && !perhapsWide ? roughBegin : beginOf(i);
        if (begin >= view.end) break;
        const double left = xOf(begin);
        if (perhapsWide && markers.duration(i) >= narrow) {
            const int64_t end = begin + markers.duration(i);
            content.wide.push_back({i, left, xOf(end)});
            if (content.wide.back().right - left < 22 && !(markers.flags(i) & kMarkerWait))
                addToRun(markers.path(i), left, content.wide.back().right, view.highlight(markers, i, i), 1, false);
            else
                endRun();
            ++i;
            ++content.markers;
            continue;
        }
        // Everything that begins in this column of pixels, except a last one that is wide.
        // (Casts round toward 0, and cost less than floor and ceil: this is the innermost loop of painting.)
        const int column = std::min(std::max(static_cast<int>(left), lastColumn + 1), view.width - 1);
        const double columnEnd = (column + 1) * nsPerPixel;
        const auto whole = static_cast<int64_t>(columnEnd);
        const int64_t next = view.begin + whole + (static_cast<double>(whole) < columnEnd);
        MarkerRow::Together together = markers.together(i, next, coarse);
        uint32_t& j = together.past;
        if (j > i + 1 && mayBeWide(j - 1) && markers.duration(j - 1) >= narrow) {
            --j;
            if (!(markers.flags(j) & kMarkerWait)) together.work -= markers.duration(j);
        }
        markers.expectGroup(j + 3 * (j - i));
        if (exact && !together.rough) markers.expect(j + 3 * (j - i));
        const double covered =
            std::clamp(static_cast<double>(together.work) * perNs, together.work > 0 ? 0.2 : 0.0, 1.0);
        const bool perhapsInk = j - i <= 4 && exact && begin < view.highlightTo && next + narrow > view.highlightFrom;
        const double highlight = perhapsInk ? view.highlight(markers, i, j - 1) : 0;
        if (lastColumn < 0) {
            content.pixels.assign(static_cast<size_t>(view.width), 0);
            content.first = column;
        }
        lastColumn = column;
        content.pixels[static_cast<size_t>(column)] = together.work <= 0 ? waitColor
                                                      : highlight > 0 ? shadeOf(t.highlight(highlight).rgb(), covered)
                                                                      : shadeOf(busyColor, covered);
        if (covered >= kNamedWhenDense)
            addToRun(markers.pathOf(j - i < MarkerRow::kGroup && exact ? markers.lanePath(i)
                                                                       : groups[i >> MarkerRow::kGroupBits].path),
                     column, column + 1, highlight, j - i, j - i > 1 && !onePath(i));
        content.markers += j - i;
        i = j;
        roughBegin = together.rough && j % MarkerRow::kGroup ? next : INT64_MIN;
    }
    endRun();
    content.past = lastColumn + 1;
}

}  // namespace fugato
