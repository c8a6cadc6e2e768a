// SPDX-License-Identifier: MIT
#include "definitions.hpp"

namespace fugato::recording {

using namespace layout;

bool ofOneRecording(DefinitionType type) {
    return type == DefinitionType::Lane || type == DefinitionType::ClockSync || type == DefinitionType::OsThread ||
           type == DefinitionType::Module;
}

void addDefinitionLocked(Recorder& r, DefinitionType type, std::string_view fields) {
    if (type == DefinitionType::Series) {
        const auto series = getFields<SeriesFields<std::string_view>>(FieldReader(fields));
        r.deadlines[series.id] = series.deadlineNs;
    }
    if (type == DefinitionType::ClockSync) {
        const auto sync = getFields<ClockSyncFields<std::string_view>>(FieldReader(fields));
        r.clockSyncs[sync.clock] = {sync.deviceTicks, sync.hostTicks};
    }
    (ofOneRecording(type) ? r.ofRecording : r.lasting).add(type, fields);
    r.unwritten.add(type, fields);
}

LaneView viewOf(const Recorder& r, const RecordedLane& lane) {
    const uint64_t number = lane.hostNumber ? lane.hostNumber : r.hostNow.load() ? 0 : lane.osId;
    return {lane.id, static_cast<LaneKind>(lane.kind), number, lane.name, lane.role, lane.clock};
}

uint64_t siteWord(uint32_t id, int detail, int level) {
    return makeWord(Kind::MarkBegin, id) | (detail > level ? FUG_WORD_LEFT_OUT : 0);
}

void knowSite(Recorder& r, std::string_view& fields) {
    fug_site* site = nullptr;
    std::memcpy(&site, fields.data(), sizeof site);
    uint64_t numbers[2];  // the name's address and the detail
    std::memcpy(numbers, fields.data() + 8, sizeof numbers);
    fields.remove_prefix(24);
    const auto told = getFields<SiteFields<std::string_view>>(FieldReader(fields));
    r.sites[site] = {makeWord(Kind::MarkBegin, told.id), reinterpret_cast<const char*>(numbers[0]),
                     std::string(told.category), static_cast<uint32_t>(numbers[1])};
}

uint32_t siteId(uint64_t word) { return static_cast<uint32_t>(word >> 32) & 0x7fffffffu; }

void writeDefinitions(Recorder& r) {
    DefinitionRecords batch;
    {
        const Lock guard(r.lanesMutex);
        std::swap(batch, r.unwritten);
    }
    if (batch.count) r.output.writeBlock({BlockType::Definitions, 0, batch.count, 0, 0, 0, batch.records});
}

void takeDefinition(Recorder& r, uint8_t kind, std::string_view fields) {
    const auto type = static_cast<DefinitionType>(kind - kSlotDefinition);
    const Lock guard(r.lanesMutex);
    if (type == DefinitionType::Site) knowSite(r, fields);
    addDefinitionLocked(r, type, fields);
}

void addDefinition(Recorder& r, DefinitionType type, std::string_view fields) {
    const Lock guard(r.lanesMutex);
    if (type == DefinitionType::Counter)
        r.lasting.add(type, fields);
    else
        r.ofRecording.add(type, fields);
    r.unwritten.add(type, fields);
}

void addContext(Recorder& r, std::string_view key, std::string_view value) {
    addDefinition(r, ContextFields<std::string_view>{key, value});
}

}  // namespace fugato::recording
