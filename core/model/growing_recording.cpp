// SPDX-License-Identifier: GPL-3.0-or-later
#include "growing_recording.h"

#include <algorithm>
#include <cstring>

#include "format/binary_reader.h"
#include "format/opening.h"
#include "lane_reading.h"
#include "likely_enders.h"

namespace fugato {

namespace {
/// Less is read to its end even where it is cancelled: else everything would have to be read again.
constexpr uint64_t kWorthCancelling = 16 << 20;  // bytes
}  // namespace

struct GrowingRecording::Reading {
    std::shared_ptr<Storage> storage;
    ModelBuilder builder{storage};
    std::unique_ptr<BinaryReader> reader;
    layout::FileHeader header{};
    Damage damage;  // of events
    std::vector<LikelyEnder> enders;
    size_t waits = 0;  // there were when they were found

    explicit Reading(std::shared_ptr<Storage> in) : storage(std::move(in)) {}

    /// Looks anew only where there are a quarter more waits: then frames have to be explained anew, too.
    void tellEnders(Recording& recording) {
        constexpr size_t kFewest = 16;
        size_t now = 0;
        for (const Lane& lane : recording.lanes) now += lane.waits.size();
        if (now >= waits + std::max(kFewest, waits / 4)) {
            enders = likelyEnders(recording);
            waits = now;
        }
        recording.likelyEnders = enders;
    }
};

GrowingRecording::GrowingRecording(std::unique_ptr<ByteSource> source, std::string name, const OpenOptions& options)
    : source_(std::move(source)), name_(std::move(name)), options_(options) {}
GrowingRecording::GrowingRecording(const std::string& path, const OpenOptions& options)
    : GrowingRecording(
          [&] {
              auto file = openFile(path);
              return file ? std::move(*file) : nullptr;
          }(),
          path, options) {}
GrowingRecording::~GrowingRecording() = default;

/// Whether there is something to go on with, and all that has come is read.
bool GrowingRecording::readOn(const Progress& progress) {
    if (!source_ || !source_->beingWritten()) return false;
    source_->refresh();
    layout::FileHeader header;
    if (source_->size() < bytes_ ||
        source_->read(0, reinterpret_cast<char*>(&header), sizeof header) != sizeof header ||
        (reading_ && std::memcmp(&header, &reading_->header, sizeof header) != 0))
        return false;
    if (!reading_) {
        reading_ = std::make_unique<Reading>(storageFor(options_));
        reading_->header = header;
        if (options_.before) reading_->builder.keepPathsOf(*options_.before);
        auto reader = BinaryReader::open(*source_, name_, reading_->builder, true);
        if (!reader) {
            reading_.reset();
            return false;
        }
        reading_->reader = std::move(*reader);
    } else {
        reading_->reader->readOn(reading_->builder);
    }
    BinaryReader& reader = *reading_->reader;
    for (const LaneBlocks& lane : reader.lanes()) reading_->builder.lane(lane.lane).clockRefined();
    LaneReading::Way way;
    way.threads = options_.threads;
    way.closes = false;
    const Progress asked = reader.eventBytes() < kWorthCancelling ? Progress() : progress;
    if (!LaneReading(reader, reading_->builder, asked, way).run(reading_->damage)) {
        reading_.reset();  // what was read of it has gaps now
        bytes_ = 0;
        return false;
    }
    bytes_ = source_->size();
    return true;
}

std::shared_ptr<const std::vector<NewFrame>> GrowingRecording::readFrames(size_t number, const std::string& series) {
    if (!reading_ || !readOn({})) return nullptr;
    return std::make_shared<const std::vector<NewFrame>>(reading_->builder.framesFrom(number, series));
}

std::shared_ptr<const Recording> GrowingRecording::read(const Progress& progress) {
    if (!readOn(progress)) return nullptr;
    BinaryReader& reader = *reading_->reader;
    Damage damage = reader.damage();
    addDamage(damage, reading_->damage);
    noteBeingWritten(damage);
    auto recording = reading_->builder.asItIs(std::move(damage));
    recording->growing = true;
    reading_->tellEnders(*recording);
    options_.before = recording;
    return recording;
}

}  // namespace fugato
