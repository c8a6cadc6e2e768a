// SPDX-License-Identifier: MIT
//
// Definitions on their way into the recording: built without allocating where a recorded thread makes them, gathered
// under lanesMutex, written by the drain.
#pragma once

#include <algorithm>
#include <cstring>
#include <string_view>

#include "recorder_state.hpp"

namespace fugato::recording {

inline constexpr size_t kMaxNameBytes = 1000, kMaxCategoryBytes = 200, kMaxDescriptionBytes = 1200,
                        kMaxFileBytes = 1000;

inline std::string_view nameText(const char* name) { return cutText(name, kMaxNameBytes); }

/// The fields of a definition, built without allocating; what does not fit is left out.
class FieldBuilder {
public:
    void number(uint64_t value) {
        if (size_ + 10 <= sizeof bytes_) size_ = static_cast<size_t>(layout::putVarint(bytes_ + size_, value) - bytes_);
    }
    void text(std::string_view text) {
        const std::string_view kept = text.substr(0, sizeof bytes_ - size_ - 10);
        number(kept.size());
        raw(kept.data(), kept.size());
    }
    void raw(const void* from, size_t count) {
        if (!count) return;
        std::memcpy(bytes_ + size_, from, count);
        size_ += count;
    }
    std::string_view bytes() const { return {bytes_, size_}; }

private:
    char bytes_[layout::kMostSlotText];
    size_t size_ = 0;
};

/// Whether it holds for one recording only, not for every later one of the process.
bool ofOneRecording(layout::DefinitionType type);

void addDefinitionLocked(Recorder& r, layout::DefinitionType type, std::string_view fields) FUGATO_NEEDS(r.lanesMutex);
template <class Definition>
void addDefinitionLocked(Recorder& r, const Definition& definition) FUGATO_NEEDS(r.lanesMutex) {
    addDefinitionLocked(r, Definition::kType, layout::fieldsOf(definition));
}

using LaneView = layout::LaneFields<std::string_view>;
LaneView viewOf(const Recorder& r, const RecordedLane& lane);

/// A site's word, and the id in it.
uint64_t siteWord(uint32_t id, int detail, int level);
uint32_t siteId(uint64_t word);
/// A site's definition has come through a buffer: remembers the site, for fug_detail(). Takes the recorder's own
/// bytes off the fields.
void knowSite(Recorder& r, std::string_view& fields) FUGATO_NEEDS(r.lanesMutex);
/// For the drain: writes what is not in the file yet.
void writeDefinitions(Recorder& r) FUGATO_NEEDS(r.outputMutex);
/// For the drain: takes a definition out of a buffer.
void takeDefinition(Recorder& r, uint8_t kind, std::string_view fields);

}  // namespace fugato::recording
