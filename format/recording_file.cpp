// SPDX-License-Identifier: GPL-3.0-or-later
#include "recording_file.h"

#include "binary_form.h"
#include "binary_reader.h"
#include "opening.h"
#include "text_form.h"

namespace fugato {

Result<Damage> readRecording(ByteSource& source, const std::string& name, EventSink& sink, const Progress& progress) {
    if (source.size() == 0)
        return Failure{name + " is empty. If a program is still to write it, open it again later; else record again."};
    if (looksBinary(source)) return readBinary(source, name, sink, progress);
    if (looksLikeText(source)) return readText(source, name, sink, progress);
    return Failure{
        name + " is not a Fugato recording (neither the binary nor the text form). Choose a .fugato or .jsonl file."};
}

Result<Damage> readRecordingFile(const std::string& path, EventSink& sink, const Progress& progress) {
    auto opened = openRecordingSource(path, progress);
    if (!opened) return opened.failure();
    auto damage = readRecording(*opened->source, path, sink, progress);
    if (damage) noteOpening(*damage, opened->note, opened->beingWritten);
    return damage;
}

Result<std::monostate> writeRecordingFile(const std::string& path, const EventStore& store, const Progress& progress) {
    const auto endsWith = [&](std::string_view end) {
        return path.size() >= end.size() && std::string_view(path).substr(path.size() - end.size()) == end;
    };
    const bool text = endsWith(".jsonl");
    if (!text && !endsWith(".fugato"))
        return Failure{"Cannot tell the form of " + path + ". Name it .fugato (binary) or .jsonl (text).", false, true};
    auto file = FileWriter::create(path);
    if (!file) return file.failure();
    bool cancelled = false;
    const Progress watched = [&](double part) {
        cancelled = progress && !progress(part);
        return !cancelled;
    };
    const auto write = [&](std::string_view bytes) { return (*file)->write(bytes); };
    if (!(text ? writeText(store, write, watched) : writeBinary(store, write, watched)) && cancelled)
        return Failure{"Writing " + path + " was cancelled.", true};
    return (*file)->finish();
}

Result<uint64_t> packRecordingFile(const std::string& path, const std::string& out, const Progress& progress) {
    auto opened = openRecordingSource(path);
    if (!opened) return opened.failure();
    if (opened->beingWritten) return Failure{path + " is still being made; pack it when it is closed."};
    auto file = FileWriter::create(out);
    if (!file) return file.failure();
    uint64_t bytes = 0;
    const auto write = [&](std::string_view part) {
        bytes += part.size();
        return (*file)->write(part);
    };
    auto packed = packBinary(*opened->source, path, write, progress);
    if (!packed && packed.failure().output)
        if (auto failed = (*file)->finish(); !failed) return failed.failure();  // it knows why
    if (!packed) return packed.failure();
    auto finished = (*file)->finish();
    if (!finished) return finished.failure();
    return bytes;
}

FileFacts lookAtFile(ByteSource& source) {
    FileFacts facts;
    facts.bytes = source.size();
    facts.binary = looksBinary(source);
    if (!facts.binary) return facts;
    const BlockDirectory directory = findBlocks(source);
    facts.blocks = directory.blocks.size();
    facts.indexed = directory.indexed;
    return facts;
}

}  // namespace fugato
