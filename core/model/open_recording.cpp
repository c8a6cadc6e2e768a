// SPDX-License-Identifier: GPL-3.0-or-later
#include "open_recording.h"

#include <sys/stat.h>

#include <chrono>
#include <filesystem>

#include "core/store/long_work.h"
#include "format/binary_reader.h"
#include "format/log.h"
#include "format/opening.h"
#include "lane_reading.h"
#include "recording_index.h"

namespace fugato {

namespace {

constexpr double kReading = 0.75;  // of the time, where a recording holds more than markers; else hardly less than all

/// What is told from `from` to `to` of the whole.
Progress partOf(const Progress& whole, double from, double to) {
    if (!whole) return {};
    return [&whole, from, to](double part) { return whole(from + (to - from) * part); };
}

Failure cancelledOpening(const std::string& name) { return {"Opening " + name + " was cancelled.", true}; }

Result<std::shared_ptr<Recording>> build(ByteSource& source, const std::string& name, const Progress& progress,
                                         const OpenOptions& options, std::shared_ptr<Storage> storage,
                                         bool growing = false) {
    ModelBuilder builder(std::move(storage));
    const Progress reading = partOf(progress, 0, kReading), finishing = partOf(progress, kReading, 1);
    const auto finish = [&](Damage damage) -> Result<std::shared_ptr<Recording>> {
        if (auto made = builder.finish(std::move(damage), finishing)) return made;
        return cancelledOpening(name);
    };
    if (options.before) builder.keepPathsOf(*options.before);
    if (!looksBinary(source)) {
        auto damage = readRecording(source, name, builder, reading);
        if (!damage) return damage.failure();
        return finish(std::move(*damage));
    }
    auto reader = BinaryReader::open(source, name, builder, growing, reading);
    if (!reader) return reader.failure();
    Damage damage = (*reader)->damage();
    if (!LaneReading(**reader, builder, reading, {options.threads, options.early, true}).run(damage))
        return cancelledOpening(name);
    return finish(std::move(damage));
}

}  // namespace

OpenOptions usualOpenOptions() {
    OpenOptions options;
    options.indexFolder = indexFolder();
    return options;
}

std::shared_ptr<Storage> storageFor(const OpenOptions& options) {
    if (options.indexFolder.empty()) return Storage::inMemory();
    std::error_code error;
    std::filesystem::create_directories(options.indexFolder, error);
    auto made = Storage::inFolder(options.indexFolder);
    if (made) {
        (*made)->keepWithin(options.memoryBytes);
        return *made;
    }
    return Storage::inMemory(made.failure().sentence + " So this recording is kept in memory, whatever its size, and " +
                             "opening it takes as long next time.");
}

Result<std::shared_ptr<const Recording>> openRecording(ByteSource& source, const std::string& name,
                                                       const Progress& progress, const OpenOptions& options) {
    OpenOptions plain = options;
    plain.early = {};
    auto built = build(source, name, progress, plain, Storage::inMemory());
    if (!built) return built.failure();
    return std::shared_ptr<const Recording>(*built);
}

Result<std::shared_ptr<const Recording>> openRecording(const std::string& path, const Progress& progress,
                                                       const OpenOptions& options) {
    longWork("opening a recording");
    const auto begun = std::chrono::steady_clock::now();
    const auto after = [&] {
        const std::chrono::duration<double, std::milli> taken = std::chrono::steady_clock::now() - begun;
        return " after " + std::to_string(static_cast<int64_t>(taken.count())) + " ms";
    };
    auto opened = openRecordingSource(path, progress);
    if (!opened) return opened.failure();
    if (!opened->note.empty()) log(LogLevel::Info, path + ": " + opened->note);
    const bool large = !options.indexFolder.empty() && opened->source->size() >= options.indexFromBytes;
    const uint64_t state = large && !opened->beingWritten && opened->note.empty() ? stateOfFile(path) : 0;
    const std::string indexPath = large ? indexPathFor(options.indexFolder, path) : std::string();
    if (state)
        if (auto known = loadIndex(indexPath, state)) {
            known->storage->keepWithin(options.memoryBytes);
            log(LogLevel::Info, path + ": its index was taken" + after() + ".");
            return std::shared_ptr<const Recording>(known);
        }

    const auto storage = large ? storageFor(options) : Storage::inMemory();
    OpenOptions watched = options;
    if (!large) watched.early = {};
    auto built = build(*opened->source, path, progress, watched, storage, opened->beingWritten);
    if (!built) return built.failure();
    const std::shared_ptr<Recording>& recording = *built;
    if (const std::string why = storage->whyInMemory(); !why.empty()) log(LogLevel::Warning, why);
    if (state && completeIndex(*recording, state) && stateOfFile(path) == state && storage->giveName(indexPath)) {
        recording->fileState = state;
        limitIndexFolder(options.indexFolder, options.indexFolderBytes, indexPath);
    }
    log(LogLevel::Info, path + ": " + std::to_string(recording->markerCount()) + " markers were read" + after() +
                            (!recording->fileState ? "; no index is kept." : "; its index is " + indexPath + "."));
    noteOpening(recording->damage, opened->note.empty() ? options.note : opened->note, opened->beingWritten);
    recording->growing = opened->beingWritten;
    return std::shared_ptr<const Recording>(recording);
}

}  // namespace fugato
