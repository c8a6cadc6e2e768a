// SPDX-License-Identifier: GPL-3.0-or-later
//
// What a person noted of a recording: of a spike, a cause, a marker, a frame, a stretch of time that may have a name,
// or the whole; with a state. Kept beside the recording in a small JSON file that another machine can read
// (docs/notes-file.md). Times are nanoseconds since the recording's begin. May run on any thread.
#pragma once

#include <vector>

#include "core/table/table.h"
#include "format/result.h"

namespace fugato {

enum class NoteAbout : uint8_t { Recording, Stretch, Frame, Spike, Cause, Marker };
enum class NoteState : uint8_t { None, ToMend, Mended, Accepted };
/// The word for the person, and in the file; "" for none.
const char* wordOf(NoteState state);
const char* wordOf(NoteAbout about);

struct Note {
    std::string id;  // unlike any other's
    NoteAbout about = NoteAbout::Recording;
    std::string name;  // of a stretch; else what it is about, in words
    std::string text;
    NoteState state = NoteState::None;
    int64_t begin = 0, end = 0;  // where it is about a time
    std::string series;          // of a frame or spike
    uint32_t frame = kNone;      // of a spike its worst
    std::string cause;           // its key (core/summary/summary.h)
    std::string lane, marker;    // their keys (core/model/keys.h)
    int64_t changedUnixMs = 0;
    bool operator==(const Note&) const = default;
};
std::string newNoteId();
/// "to mend · Spray: drawn twice", for a line.
std::string noteText(const Note& note);

struct NotesFile {
    std::string recordingId, program;
    std::vector<Note> notes;
};

/// "race.fugato.notes.json".
std::string notesPath(const std::string& recordingPath);
inline constexpr uint64_t kLargestNotes = 16'000'000;  // bytes
inline constexpr size_t kMostNotes = 100'000;

/// What the bytes of such a file hold. `path`: for the sentence that says why they cannot be read.
Result<NotesFile> notesIn(std::string_view bytes, const std::string& path);
/// Nothing is kept where there is no file. Fails with why a file cannot be read.
Result<NotesFile> readNotes(const std::string& path);
/// The other file stays until the new one is whole.
Result<std::monostate> writeNotes(const std::string& path, const NotesFile& notes);

/// What two made of the same notes: each note as the one has it who changed it since; `mine` where both did.
std::vector<Note> mergedNotes(const std::vector<Note>& base, const std::vector<Note>& mine,
                              const std::vector<Note>& theirs);

enum NoteColumn : size_t { kNoteText, kNoteState, kNoteName, kNoteKind, kNoteAt, kNoteLength, kNoteChanged };
std::shared_ptr<const Table> noteTable(std::shared_ptr<const Recording> recording, std::vector<Note> notes);

}  // namespace fugato
