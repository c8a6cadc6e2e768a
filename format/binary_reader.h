// SPDX-License-Identifier: GPL-3.0-or-later
//
// Reads recordings in binary form: names and clocks first, then the events, all of them or lane by lane
// on several threads at once.
#pragma once

#include <atomic>
#include <memory>
#include <span>

#include "binary_form.h"

namespace fugato {

/// Receives the events of one lane, in the order in which they were recorded.
class LaneSink {
public:
    virtual ~LaneSink() = default;
    /// The events and their texts are valid during the call only.
    virtual void events(std::span<const Event> events) = 0;
};

/// A lane's part of a file.
struct LaneBlocks {
    uint32_t lane = 0;             // id of the file
    uint64_t events = 0;           // as the blocks say
    uint64_t bytes = 0;            // of their payloads
    std::vector<uint32_t> blocks;  // in BinaryReader::directory()
};

class BinaryReader {
public:
    /// What all packed blocks of a file may take when they are unpacked, one after the other: so much in any case, and
    /// so many times their own bytes. Recordings stay far below (ten times is usual); what is beyond is told as damage.
    static constexpr uint64_t kUnpackedAnyway = 128u << 20, kUnpackedTimes = 2000;

    /// Reads what is not an event and tells `sink` of it. `source` outlives the reader; `name` is used in
    /// sentences. Fails where nothing at all can be read.
    /// `growing`: the file is still being written, and what its end lacks is no damage; see readOn().
    static Result<std::unique_ptr<BinaryReader>> open(ByteSource& source, const std::string& name, EventSink& sink,
                                                      bool growing = false, const Progress& progress = {});
    ~BinaryReader();

    /// Of one opened as growing: reads what came since and is no event, and tells `sink` of it.
    /// lanes(), directory() and eventBytes() are then of what came. After ByteSource::refresh().
    void readOn(EventSink& sink);

    const std::vector<LaneBlocks>& lanes() const { return lanes_; }
    const BlockDirectory& directory() const { return directory_; }
    uint64_t eventBytes() const { return eventBytes_; }
    /// When a block's events lie, as its header says.
    std::pair<int64_t, int64_t> timesOf(const layout::IndexEntry& block) const;

    /// Reads a lane's events. What is missing becomes Lost events, and is noted in `damage`. Different
    /// threads may read different lanes. `each` is told the bytes of each block read, and returns false
    /// to stop; then this does so too.
    bool readLane(const LaneBlocks& lane, LaneSink& sink, Damage& damage,
                  const std::function<bool(uint64_t bytes)>& each = {}) const;
    /// What was wrong apart from the lanes' events.
    const Damage& damage() const { return damage_; }

private:
    class Clocks;
    BinaryReader(ByteSource& source);
    void sortBlocks(EventSink& sink);

    ByteSource* const source_;
    uint64_t found_ = 0;  // of a growing file: where the blocks end that are known
    BlockDirectory directory_;
    std::unique_ptr<Clocks> clocks_;
    std::vector<LaneBlocks> lanes_;
    uint64_t eventBytes_ = 0;
    mutable std::atomic<uint64_t> unpacked_{0};  // bytes of columns
    Damage damage_;
};

/// Adds what was wrong in one part to what was wrong in others.
void addDamage(Damage& to, const Damage& from);

Result<Damage> readBinary(ByteSource& source, const std::string& name, EventSink& sink, const Progress& progress);

/// Calls `take` with the events of a block of either kind, several at a time. Returns how many could not
/// be read.
uint32_t readEvents(const layout::IndexEntry& block, std::string_view payload,
                    const std::function<void(std::span<const layout::RawEvent>)>& take);

}  // namespace fugato
