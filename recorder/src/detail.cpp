// SPDX-License-Identifier: MIT
//
// Which categories are recorded in how much detail (fug_detail).
#include <link.h>

#include <new>

#include "drain.hpp"
#include "this_thread.hpp"

using namespace fugato::recording;

namespace {

/// Puts a category's setting into every known site that is still loaded.
void applyDetails(Recorder& r, const DetailSettings& details) FUGATO_NEEDS(r.lanesMutex) {
    // Only memory that the loader holds mapped right now is touched, and there only what still is the
    // site it was: its code may have been unloaded.
    struct Visit {
        Recorder& r;
        const DetailSettings& details;
    } visit{r, details};
    dl_iterate_phdr(
        [](dl_phdr_info* info, size_t, void* data) FUGATO_NOT_CHECKED {  // at once, under the same lock
            const auto& [target, wanted] = *static_cast<Visit*>(data);
            for (int i = 0; i < info->dlpi_phnum; ++i) {
                const auto& segment = info->dlpi_phdr[i];
                if (segment.p_type != PT_LOAD || !(segment.p_flags & PF_W)) continue;
                const uint64_t from = info->dlpi_addr + segment.p_vaddr, to = from + segment.p_memsz;
                for (auto& [site, known] : target.sites) {
                    const auto at = reinterpret_cast<uint64_t>(site);
                    if (at < from || at + sizeof(fug_site) > to) continue;
                    const uint64_t word = __atomic_load_n(&site->word, __ATOMIC_RELAXED);
                    if ((word & ~FUG_WORD_LEFT_OUT) != known.word || site->name != known.namePointer) continue;
                    __atomic_store_n(
                        &site->word,
                        siteWord(siteId(known.word), static_cast<int>(known.detail), wanted.of(known.category)),
                        __ATOMIC_RELAXED);
                }
            }
            return 0;
        },
        &visit);
}

}  // namespace

namespace fugato::recording {

void changeDetails(const std::function<void(DetailSettings&)>& change) {
    Recorder& r = recorder();
    const SetUpCall here;
    try {
        const Lock outputGuard(r.outputMutex);
        std::vector<RecordedLane*> lanes;
        {
            const Lock guard(r.lanesMutex);
            const DetailSettings* before = r.details.load();
            auto changed = std::make_unique<DetailSettings>(before ? *before : DetailSettings{});
            change(*changed);
            r.details.store(changed.get(), std::memory_order_release);
            r.allDetails.push_back(std::move(changed));
            lanes = r.lanes;
        }
        // Sites whose definition still is in a buffer become known first.
        if (r.output.state() != RecordingOutput::State::Closed)
            for (RecordedLane* lane : lanes) collect(r, *lane, monotonicNs());
        const Lock guard(r.lanesMutex);
        applyDetails(r, *r.details.load());
    } catch (const std::bad_alloc&) {
    }
}

void setDetail(const char* category, int level) {
    changeDetails([&](DetailSettings& details) {
        if (category) {
            details.levels[std::string(cutText(category, kMaxCategoryBytes))] = level;
        } else {
            details.levels.clear();
            details.otherwise = level;
        }
    });
}

}  // namespace fugato::recording

void fug_detail(const char* category, int level) {
    if (!inside) setDetail(category, level);
}
