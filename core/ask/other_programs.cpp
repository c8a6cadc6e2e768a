// SPDX-License-Identifier: GPL-3.0-or-later
#include "other_programs.h"

#include <algorithm>

#include "core/explain/walk/core_holder.h"
#include "core/explain/words/quantities.h"

namespace fugato {

namespace {

bool isOther(CoreHolder holder) { return holder >= kOtherProgram && holder < kSystem; }

using Spans = std::vector<OtherProgram::Span>;

/// Spans of several cores, made one list without overlaps.
void join(Spans& spans) {
    std::sort(spans.begin(), spans.end(), [](const auto& a, const auto& b) { return a.begin < b.begin; });
    size_t kept = 0;
    for (const OtherProgram::Span& span : spans) {
        if (kept && span.begin <= spans[kept - 1].end)
            spans[kept - 1].end = std::max(spans[kept - 1].end, span.end);
        else
            spans[kept++] = span;
    }
    spans.resize(kept);
    int64_t until = 0;
    for (OtherProgram::Span& span : spans) span.until = until += span.end - span.begin;
}

}  // namespace

int64_t OtherProgram::between(int64_t begin, int64_t end) const {
    const auto before = [&](int64_t time) -> int64_t {
        const auto at =
            std::upper_bound(spans.begin(), spans.end(), time, [](int64_t t, const Span& s) { return t < s.begin; });
        if (at == spans.begin()) return 0;
        return at[-1].until - std::max<int64_t>(0, at[-1].end - time);
    };
    return end > begin ? before(end) - before(begin) : 0;
}

bool tellsOtherPrograms(const Recording& recording) {
    const auto own = recording.ownProcesses();
    const bool cores = std::any_of(recording.lanes.begin(), recording.lanes.end(),
                                   [](const Lane& lane) { return !lane.coreSpans.empty(); });
    return cores && std::any_of(recording.osThreads.begin(), recording.osThreads.end(),
                                [&](const auto& thread) { return !own.count(thread.second.process); });
}

std::shared_ptr<const OtherProgramList> otherPrograms(const Recording& recording, size_t most,
                                                      const Progress& progress) {
    const CoreHolders holders(recording);
    std::unordered_map<CoreHolder, OtherProgram> byHolder;
    size_t looked = 0, all = 0;
    for (const Lane& lane : recording.lanes) all += lane.coreSpans.size();
    for (const Lane& lane : recording.lanes) {
        for (const CoreSpan& span : lane.coreSpans) {
            if (++looked % 65536 == 0 && progress && !progress(static_cast<double>(looked) / static_cast<double>(all)))
                return nullptr;
            if (span.thread == layout::kIdleThread || span.end <= span.begin) continue;
            const CoreHolder holder = holders.of(span.thread);
            if (!isOther(holder)) continue;
            OtherProgram& program = byHolder[holder];
            program.ran += span.end - span.begin;
            program.spans.push_back({span.begin, span.end});
        }
    }
    auto found = std::make_shared<OtherProgramList>();
    for (auto& [holder, program] : byHolder) {
        program.name = coreHolderText(recording, holder);
        found->push_back(std::move(program));
    }
    std::sort(found->begin(), found->end(), [](const OtherProgram& a, const OtherProgram& b) {
        return a.ran != b.ran ? a.ran > b.ran : a.name < b.name;
    });
    if (found->size() > most && most) {
        OtherProgram rest;
        rest.name = plural(found->size() - most, "more program", "more programs");
        for (size_t i = most; i < found->size(); ++i) {
            rest.ran += (*found)[i].ran;
            rest.spans.insert(rest.spans.end(), (*found)[i].spans.begin(), (*found)[i].spans.end());
        }
        found->resize(most);
        found->push_back(std::move(rest));
    }
    for (OtherProgram& program : *found) join(program.spans);
    return found;
}

}  // namespace fugato
