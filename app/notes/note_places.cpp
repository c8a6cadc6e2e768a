// SPDX-License-Identifier: GPL-3.0-or-later
#include "note_places.h"

#include <algorithm>

#include "app/theme/words.h"
#include "core/explain/words/quantities.h"
#include "core/explain/words/sentences.h"
#include "core/model/keys.h"
#include "core/summary/summary.h"

namespace fugato {

namespace {

Note noteOf(NoteAbout about, const Recording& r, const TimeRange& range, std::string name) {
    Note note;
    note.about = about;
    note.name = std::move(name);
    note.begin = range.begin - r.begin;
    note.end = range.end - r.begin;
    return note;
}

}  // namespace

std::vector<Note> notable(const Document& document, const Selection& selection) {
    std::vector<Note> found;
    if (!document.recording()) return found;
    const Recording& r = *document.recording();
    const auto& e = document.explanation();
    const MarkerRef& marker = selection.marker();
    if (holds(r, marker)) {
        const MarkerRow& row = r.lanes[marker.lane].rows[marker.row];
        const PathId path = r.pathOf(marker);
        Note note = noteOf(NoteAbout::Marker, r, {row.begin(marker.index), row.end(marker.index)},
                           r.pathText(path) + " on " + r.lanes[marker.lane].name);
        note.lane = laneKeys(r)[marker.lane];
        note.marker = pathKey(r, path);
        found.push_back(note);
    }
    if (const auto& range = selection.range()) found.insert(found.begin(), noteOf(NoteAbout::Stretch, r, *range, {}));
    if (e && selection.cause() < e->causes.size()) {
        const Cause& cause = e->causes[selection.cause()];
        Note note;
        note.about = NoteAbout::Cause;
        note.name = cause.letter + " " + causeTitle(*e, cause);
        note.cause = causeKey(*e, cause);
        note.series = r.series[e->series].name;
        found.push_back(note);
    }
    if (e && selection.frame() < e->frames.size()) {
        const Frame& frame = e->frame(selection.frame());
        const uint32_t spike = e->frames[selection.frame()].spike;
        if (spike != kNone) {
            const Spike& s = e->spikes[spike];
            Note note = noteOf(NoteAbout::Spike, r, {e->frame(s.first).begin, e->frame(s.last).end},
                               "spike at frame " + std::to_string(s.first));
            note.series = r.series[e->series].name;
            note.frame = e->worstFrameOf(s);
            found.push_back(note);
        }
        Note note = noteOf(NoteAbout::Frame, r, {frame.begin, frame.end}, "frame " + std::to_string(selection.frame()));
        note.series = r.series[e->series].name;
        note.frame = selection.frame();
        found.push_back(note);
    }
    if (!selection.range())
        found.push_back(noteOf(NoteAbout::Stretch, r, {selection.view().begin, selection.view().end}, {}));
    Note whole;
    whole.about = NoteAbout::Recording;
    whole.name = "the whole recording";
    found.push_back(whole);
    return found;
}

std::optional<TimeRange> timeOf(const Note& note, const Recording& r) {
    if (note.end <= note.begin || note.begin > r.end - r.begin) return std::nullopt;
    return TimeRange{r.begin + note.begin, r.begin + std::min(note.end, r.end - r.begin)};
}

void goToNote(const Note& note, Document& document, Selection& selection) {
    const Recording& r = *document.recording();
    const auto& e = document.explanation();
    const bool sameSeries = e && r.series[e->series].name == note.series;
    const auto range = timeOf(note, r);
    switch (note.about) {
        case NoteAbout::Cause:
            for (uint32_t i = 0; e && sameSeries && i < e->causes.size(); ++i)
                if (causeKey(*e, e->causes[i]) == note.cause) return selection.chooseCause(i);
            break;
        case NoteAbout::Frame:
        case NoteAbout::Spike:
            if (sameSeries && note.frame < e->frames.size()) return selection.chooseFrame(note.frame);
            break;
        case NoteAbout::Marker: {
            if (!range) break;
            const auto keys = laneKeys(r);
            const auto lane = static_cast<uint32_t>(std::find(keys.begin(), keys.end(), note.lane) - keys.begin());
            if (lane >= keys.size()) break;
            for (uint32_t row = 0; row < r.lanes[lane].rows.size(); ++row) {
                const MarkerRow& markers = r.lanes[lane].rows[row];
                const uint32_t at = markers.firstFrom(range->begin);
                if (at < markers.size() && markers.begin(at) == range->begin &&
                    pathKey(r, markers.path(at)) == note.marker)
                    return selection.lookAtMarker({lane, row, at}, true);
            }
            break;
        }
        case NoteAbout::Stretch:
            if (range) selection.selectRange(*range);
            break;
        case NoteAbout::Recording: return selection.showWhole();
    }
    if (!range) return;
    const int64_t margin = std::max<int64_t>(1000, (range->end - range->begin) / 10);
    selection.showSpan(range->begin - margin, range->end + margin, true);
}

}  // namespace fugato
