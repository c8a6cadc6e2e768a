// SPDX-License-Identifier: GPL-3.0-or-later
#include "marker_plots.h"

#include <QCoreApplication>
#include <cmath>

#include "app/theme/words.h"
#include "core/explain/words/quantities.h"

namespace fugato {

namespace {

constexpr size_t kMostBars = 48, kFrameBars = 300;
constexpr double kLogarithmicFrom = 20;  // longest by shortest

QString tr(const char* text) { return QCoreApplication::translate("MarkerPlots", text); }

/// Durations along the width.
class Axis {
public:
    Axis(int64_t shortest, int64_t longest)
        : low_(static_cast<double>(std::max<int64_t>(shortest, 1))),
          high_(std::max(static_cast<double>(longest), low_ * 1.001)),
          logarithmic_(high_ / low_ >= kLogarithmicFrom) {}
    bool logarithmic() const { return logarithmic_; }
    /// None is narrower than what lengths are told apart by (DurationBar).
    size_t bars() const {
        if (logarithmic_) return kMostBars;
        return static_cast<size_t>(std::clamp((high_ - low_) / high_ * 128, 1.0, static_cast<double>(kMostBars)));
    }
    double at(double duration) const {
        const double value = std::max(duration, 1.0);
        return logarithmic_ ? std::log(value / low_) / std::log(high_ / low_) : (value - low_) / (high_ - low_);
    }
    double durationAt(double part) const {
        return logarithmic_ ? low_ * std::pow(high_ / low_, part) : low_ + (high_ - low_) * part;
    }
    std::vector<BarPlot::Tick> ticks() const {
        std::vector<BarPlot::Tick> ticks;
        const auto add = [&](double duration) {
            if (duration >= low_ && duration <= high_)
                ticks.push_back({at(duration), toQString(durationText(std::llround(duration)))});
        };
        if (logarithmic_) {
            for (double decade = std::pow(10, std::floor(std::log10(low_))); decade <= high_; decade *= 10)
                for (const double step : {1.0, 3.0}) add(decade * step);
            return ticks;
        }
        constexpr double kTicks = 4;
        const double rough = (high_ - low_) / kTicks, decade = std::pow(10, std::floor(std::log10(rough)));
        const double step = decade * (rough / decade < 2 ? 2 : rough / decade < 5 ? 5 : 10);
        for (double duration = std::ceil(low_ / step) * step; duration <= high_; duration += step) add(duration);
        return ticks;
    }

private:
    const double low_, high_;
    const bool logarithmic_;
};

Axis axisOf(const Recording& recording, const MarkerStatistics& s) {
    return {s.shortest, std::max(s.longest, recording.sites[s.site].longestNs)};
}

/// When a frame begins, as a part of the recording.
double placeOf(const Recording& r, const Frame& frame) {
    return static_cast<double>(frame.begin - r.begin) / static_cast<double>(std::max<int64_t>(1, r.end - r.begin));
}

}  // namespace

namespace {

/// How many took how long. `limit`: what takes longer is plum; 0: nothing is.
void addLengths(BarPlot::Contents& made, const Axis& axis, const std::vector<DurationBar>& durations, uint64_t all,
                int64_t limit) {
    const size_t bars = axis.bars();
    std::vector<uint64_t> counts(bars);
    for (const DurationBar& bar : durations) {
        const double middle = static_cast<double>(bar.from) + static_cast<double>(bar.to - bar.from) / 2;
        const double at = std::clamp(axis.at(middle), 0.0, 1.0) * static_cast<double>(bars);
        counts[std::min(static_cast<size_t>(at), bars - 1)] += bar.count;
    }
    uint64_t most = 0;
    for (size_t i = 0; i < bars; ++i) {
        const double from = static_cast<double>(i) / static_cast<double>(bars),
                     to = static_cast<double>(i + 1) / static_cast<double>(bars);
        const double begin = axis.durationAt(from), end = axis.durationAt(to);
        const uint64_t count = counts[i];
        // The rare ones matter: each is seen beside thousands.
        const double height = count ? 1 + std::log10(static_cast<double>(count)) : 0;
        BarPlot::Bar bar{from, to, height, limit > 0 && (begin + end) / 2 >= static_cast<double>(limit), {}, {}};
        bar.words = tr("%1 of %2 took %3 to %4")
                        .arg(toQString(countText(count)), toQString(countText(all)),
                             toQString(durationText(std::llround(begin))), toQString(durationText(std::llround(end))));
        most = std::max(most, count);
        made.bars.push_back(std::move(bar));
    }
    const QString scales = axis.logarithmic() ? tr("lengths and heights logarithmic") : tr("heights logarithmic");
    made.highest = tr("%1; the highest: %2 of %3").arg(scales, toQString(countText(most)), toQString(countText(all)));
    made.ticks = axis.ticks();
}

BarPlot::Mark markAt(const Axis& axis, int64_t duration, const QString& words) {
    return {std::clamp(axis.at(static_cast<double>(duration)), 0.0, 1.0), words.arg(toQString(durationText(duration))),
            false};
}

}  // namespace

BarPlot::Contents durationPlot(const Recording& recording, const MarkerStatistics& s) {
    BarPlot::Contents made;
    made.title = tr("How long it takes");
    made.empty = tr("It does not occur there.");
    if (!s.count) return made;
    const int64_t expected = recording.sites[s.site].longestNs;
    const Axis axis = axisOf(recording, s);
    addLengths(made, axis, s.durations, s.count, expected);
    made.marks.push_back(markAt(axis, s.median, tr("median %1")));
    if (expected > 0) made.marks.push_back(markAt(axis, expected, tr("expected at most %1")));
    return made;
}

BarPlot::Contents frameLengthPlot(const QString& title, const FrameFigures& f, int64_t shortest, int64_t longest) {
    BarPlot::Contents made;
    made.title = title;
    made.empty = tr("No frame begins there.");
    if (!f.frames) return made;
    constexpr int64_t kApart = 128;  // as DurationBar
    std::vector<DurationBar> bars;
    for (const int64_t duration : f.durations) {
        if (bars.empty() || duration >= bars.back().to)
            bars.push_back({duration, duration + std::max<int64_t>(1, duration / kApart), 0});
        ++bars.back().count;
    }
    const Axis axis(shortest, longest);
    addLengths(made, axis, bars, f.frames, f.deadline);
    made.marks.push_back(markAt(axis, f.median, tr("median %1")));
    if (f.deadline >= shortest && f.deadline <= longest)
        made.marks.push_back(markAt(axis, f.deadline, tr("deadline %1")));
    return made;
}

BarPlot::Contents framePlot(const Recording& r, uint32_t series, const Explanation* e, const MarkerStatistics& s,
                            const std::function<void(uint32_t)>& choose) {
    BarPlot::Contents made;
    made.title = tr("In each frame, over the recording");
    made.empty = s.frames ? tr("No frame there has it.") : tr("No frame begins there.");
    if (series >= r.series.size() || s.inFrame.empty()) return made;
    const Column<Frame>& frames = r.series[series].frames;
    struct FrameColumn {
        uint32_t worst = kNone;
        int64_t ns = 0;
        uint32_t frames = 0;
    };
    std::vector<FrameColumn> columns(kFrameBars);
    for (size_t i = 0; i < s.inFrame.size(); ++i) {
        const auto index = s.firstFrame + static_cast<uint32_t>(i);
        if (s.inFrame[i] < 0 || index >= frames.size()) continue;
        FrameColumn& column =
            columns[std::min<size_t>(static_cast<size_t>(placeOf(r, frames[index]) * kFrameBars), kFrameBars - 1)];
        ++column.frames;
        if (column.worst != kNone && s.inFrame[i] <= column.ns) continue;
        column.worst = index;
        column.ns = s.inFrame[i];
    }
    int64_t most = 0;
    for (size_t i = 0; i < kFrameBars; ++i) {
        const FrameColumn& column = columns[i];
        if (column.worst == kNone || column.ns <= 0) continue;
        const bool late = e && column.worst < e->frames.size() && e->frames[column.worst].overrun > 0;
        BarPlot::Bar bar{static_cast<double>(i) / kFrameBars,
                         static_cast<double>(i + 1) / kFrameBars,
                         static_cast<double>(column.ns),
                         late,
                         {},
                         {}};
        bar.words = tr("frame %1: %2").arg(toQString(countText(column.worst)), toQString(durationText(column.ns)));
        if (late) bar.words += tr(", late");
        if (column.frames > 1) bar.words += tr(", most of %1 frames here").arg(toQString(countText(column.frames)));
        bar.act = [choose, worst = column.worst] { choose(worst); };
        most = std::max(most, column.ns);
        made.bars.push_back(std::move(bar));
    }
    made.highest = tr("at most %1; plum where the frame is late").arg(toQString(durationText(most)));
    made.ticks = {
        {0, "0"}, {0.5, toQString(durationText((r.end - r.begin) / 2))}, {1, toQString(durationText(r.end - r.begin))}};
    return made;
}

BarPlot::Mark chosenDuration(const Recording& recording, const MarkerStatistics& s, int64_t duration) {
    BarPlot::Mark mark = markAt(axisOf(recording, s), duration, tr("selected: %1"));
    mark.chosen = true;
    return mark;
}

BarPlot::Mark chosenFrame(const Recording& r, uint32_t series, uint32_t frame) {
    return {placeOf(r, r.series[series].frames[frame]), tr("frame %1").arg(toQString(countText(frame))), true};
}

std::vector<PartsList::Section> partsOf(const MarkerStatistics& s) {
    constexpr size_t kMostLines = 12;
    std::vector<PartsList::Section> sections;
    const auto add = [&](const QString& title, const std::vector<MarkerPart>& parts, bool byMean, uint64_t others) {
        if (parts.empty()) return;
        PartsList::Section section{title, {}};
        std::vector<MarkerPart> shown = parts;
        const auto weight = [&](const MarkerPart& part) { return byMean ? part.mean() : part.total; };
        std::stable_sort(shown.begin(), shown.end(),
                         [&](const auto& a, const auto& b) { return weight(a) > weight(b); });
        for (size_t i = kMostLines; i < shown.size(); ++i) others += shown[i].count;
        if (shown.size() > kMostLines) shown.resize(kMostLines);
        const double most = static_cast<double>(std::max<int64_t>(1, weight(shown.front())));
        for (const MarkerPart& part : shown) {
            const QString times = toQString(plural(part.count, "time", "times")),
                          mean = tr("mean %1").arg(toQString(durationText(part.mean()))),
                          total = tr("total %1").arg(toQString(durationText(part.total)));
            section.lines.push_back(
                {toQString(part.name), byMean ? mean + ", " + times : total + ", " + times,
                 static_cast<double>(weight(part)) / most,
                 tr("%1, %2, longest %3").arg(byMean ? total : mean, times, toQString(durationText(part.longest)))});
        }
        if (others) section.lines.push_back({tr("others"), toQString(plural(others, "time", "times")), 0, QString()});
        sections.push_back(std::move(section));
    };
    add(tr("Called from"), s.byCaller, false, 0);
    for (const MarkerArgument& argument : s.byArgument)
        add(tr("By argument %1").arg(toQString(argument.key)), argument.values, true, argument.others);
    if (s.byStage.size() > 1) add(tr("By stage"), s.byStage, true, 0);
    if (s.byLane.size() > 1) add(tr("By lane"), s.byLane, false, 0);
    return sections;
}

}  // namespace fugato
