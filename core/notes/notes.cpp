// SPDX-License-Identifier: GPL-3.0-or-later
#include "notes.h"

#include <algorithm>
#include <ctime>
#include <filesystem>
#include <fstream>
#include <map>
#include <nlohmann/json.hpp>
#include <random>
#include <set>

#include "format/byte_source.h"
#include "format/shown_text.h"

namespace fugato {

namespace {

using nlohmann::json;

constexpr const char* kAbout[] = {"recording", "stretch", "frame", "spike", "cause", "marker"};
constexpr const char* kStates[] = {"", "to mend", "mended", "accepted"};
constexpr size_t kLongestText = 100'000;

template <class Enum, size_t N>
Enum wordIn(const char* const (&words)[N], const std::string& word) {
    const auto at = std::find(std::begin(words), std::end(words), word);
    return at == std::end(words) ? Enum{} : static_cast<Enum>(at - std::begin(words));
}

/// Values of another kind than expected are as if they were not there.
std::string textIn(const json& note, const char* key) {
    const auto at = note.find(key);
    if (at == note.end() || !at->is_string()) return {};
    std::string text = at->get<std::string>();
    if (text.size() > kLongestText) text.resize(kLongestText);
    return text;
}
int64_t numberIn(const json& note, const char* key, int64_t otherwise = 0) {
    const auto at = note.find(key);
    return at != note.end() && at->is_number_integer() ? at->get<int64_t>() : otherwise;
}

json jsonOf(const Note& note) {
    json out{{"id", note.id}, {"about", wordOf(note.about)}, {"changed_unix_ms", note.changedUnixMs}};
    const auto put = [&](const char* key, const std::string& text) {
        if (!text.empty()) out[key] = text;
    };
    put("name", note.name);
    put("text", note.text);
    put("state", wordOf(note.state));
    put("series", note.series);
    put("cause", note.cause);
    put("lane", note.lane);
    put("marker", note.marker);
    if (note.end > note.begin) {
        out["begin_ns"] = note.begin;
        out["end_ns"] = note.end;
    }
    if (note.frame != kNone) out["frame"] = note.frame;
    return out;
}

Note noteIn(const json& one) {
    Note note;
    note.id = textIn(one, "id");
    note.about = wordIn<NoteAbout>(kAbout, textIn(one, "about"));
    note.state = wordIn<NoteState>(kStates, textIn(one, "state"));
    note.name = textIn(one, "name");
    note.text = textIn(one, "text");
    note.series = textIn(one, "series");
    note.cause = textIn(one, "cause");
    note.lane = textIn(one, "lane");
    note.marker = textIn(one, "marker");
    note.begin = std::max<int64_t>(0, numberIn(one, "begin_ns"));
    note.end = std::max(note.begin, numberIn(one, "end_ns"));
    const int64_t frame = numberIn(one, "frame", -1);
    if (frame >= 0 && frame < kNone) note.frame = static_cast<uint32_t>(frame);
    note.changedUnixMs = numberIn(one, "changed_unix_ms");
    return note;
}

std::string dayOf(int64_t unixMs) {
    const std::time_t seconds = unixMs / 1000;
    std::tm local{};
    char text[32];
    if (!unixMs || !localtime_r(&seconds, &local) || !std::strftime(text, sizeof text, "%Y-%m-%d %H:%M", &local))
        return {};
    return text;
}

class TableOfNotes : public Table {
public:
    TableOfNotes(std::shared_ptr<const Recording> recording, std::vector<Note> notes)
        : recording_(std::move(recording)),
          notes_(std::move(notes)),
          columns_{{"text", "Note", Quantity::Text, "", 0, false, false, true},
                   {"state", "State", Quantity::Text, "To mend, mended or accepted"},
                   {"name", "About", Quantity::Text, "What it is about"},
                   {"kind", "Kind", Quantity::Text, "", 0, true},
                   {"begin_ns", "At", Quantity::Instant, "Since the recording's begin"},
                   {"length_ns", "Length", Quantity::Duration, "Of the time it is about"},
                   {"changed", "Changed", Quantity::Text, "When it was written or changed last"}} {}
    const std::vector<TableColumn>& columns() const override { return columns_; }
    uint32_t rowLimit() const override { return static_cast<uint32_t>(notes_.size()); }
    TableValue value(Row row, size_t column) const override {
        const Note& note = notes_[row];
        const auto text = [](const std::string& words) {
            return words.empty() ? TableValue() : TableValue(shownText(words));
        };
        const bool timed = note.end > note.begin;
        switch (column) {
            case kNoteText: return text(note.text);
            case kNoteState: return text(wordOf(note.state));
            case kNoteName: return text(note.name);
            case kNoteKind: return std::string(wordOf(note.about));
            case kNoteAt: return timed ? TableValue(note.begin) : TableValue();
            case kNoteLength: return timed ? TableValue(note.end - note.begin) : TableValue();
            default: return text(dayOf(note.changedUnixMs));
        }
    }
    Emphasis emphasis(Row row, size_t column) const override {
        const NoteState state = notes_[row].state;
        if (state == NoteState::Mended || state == NoteState::Accepted) return Emphasis::Muted;
        return state == NoteState::ToMend && column == kNoteState ? Emphasis::Strong : Emphasis::None;
    }
    std::string help(Row row) const override { return notes_[row].text; }
    uint64_t keyOf(Row row) const override { return std::hash<std::string>()(notes_[row].id); }

private:
    const std::shared_ptr<const Recording> recording_;
    const std::vector<Note> notes_;
    const std::vector<TableColumn> columns_;
};

}  // namespace

const char* wordOf(NoteState state) { return kStates[static_cast<size_t>(state)]; }
const char* wordOf(NoteAbout about) { return kAbout[static_cast<size_t>(about)]; }

std::string newNoteId() {
    std::random_device random;
    static constexpr char kDigits[] = "0123456789abcdef";
    std::string id;
    for (int i = 0; i < 4; ++i) {
        uint32_t bits = random();
        for (int k = 0; k < 8; ++k, bits >>= 4) id += kDigits[bits & 15];
    }
    return id;
}

std::string noteText(const Note& note) {
    std::string words = wordOf(note.state);
    for (const std::string* part : {&note.name, &note.text})
        if (!part->empty())
            words += (words.empty() ? "" : part == &note.text && !note.name.empty() ? ": " : " · ") + *part;
    return shownText(words);
}

std::string notesPath(const std::string& recordingPath) { return recordingPath + ".notes.json"; }

Result<NotesFile> readNotes(const std::string& path) {
    NotesFile file;
    std::error_code failed;
    if (!std::filesystem::exists(path, failed)) return file;
    const auto refused = [&](const std::string& why) { return Failure{"The notes in " + path + " " + why}; };
    if (!std::filesystem::is_regular_file(path, failed)) return refused("cannot be read: it is no file.");
    if (std::filesystem::file_size(path, failed) > kLargestNotes || failed)
        return refused("cannot be read: the file is too large to hold notes.");
    std::ifstream in(path, std::ios::binary);
    return notesIn(std::string(std::istreambuf_iterator<char>(in), {}), path);
}

Result<NotesFile> notesIn(std::string_view bytes, const std::string& path) {
    NotesFile file;
    const auto refused = [&](const std::string& why) { return Failure{"The notes in " + path + " " + why}; };
    const json all = json::parse(bytes, nullptr, false);
    if (all.is_discarded() || !all.is_object() || numberIn(all, "fugato_notes", -1) < 1)
        return refused("cannot be read: it is damaged, or something else. Mend it, or move it away.");
    if (numberIn(all, "fugato_notes") > 1)
        return refused("were written by a newer version; this one cannot read them.");
    file.recordingId = textIn(all, "recording");
    file.program = textIn(all, "program");
    const auto list = all.find("notes");
    if (list == all.end() || !list->is_array()) return file;
    std::set<std::string> ids;
    for (const json& one : *list) {
        if (!one.is_object() || file.notes.size() == kMostNotes) continue;
        Note note = noteIn(one);
        if (note.id.empty() || !ids.insert(note.id).second) {  // written by hand
            note.id = newNoteId();
            ids.insert(note.id);
        }
        file.notes.push_back(std::move(note));
    }
    return file;
}

Result<std::monostate> writeNotes(const std::string& path, const NotesFile& file) {
    json notes = json::array();
    for (const Note& note : file.notes) notes.push_back(jsonOf(note));
    const json all{{"fugato_notes", 1}, {"recording", file.recordingId}, {"program", file.program}, {"notes", notes}};
    auto writer = FileWriter::create(path);
    if (!writer) return writer.failure();
    (*writer)->write(all.dump(1, ' ', false, json::error_handler_t::replace) + "\n");
    return (*writer)->finish();
}

std::vector<Note> mergedNotes(const std::vector<Note>& base, const std::vector<Note>& mine,
                              const std::vector<Note>& theirs) {
    std::map<std::string, const Note*> before, here, there;
    for (const Note& note : base) before[note.id] = &note;
    for (const Note& note : mine) here[note.id] = &note;
    for (const Note& note : theirs) there[note.id] = &note;
    const auto find = [](const std::map<std::string, const Note*>& in, const std::string& id) {
        const auto at = in.find(id);
        return at == in.end() ? nullptr : at->second;
    };
    const auto same = [](const Note* a, const Note* b) { return a && b ? *a == *b : a == b; };
    std::vector<Note> out;
    for (const Note& note : mine) {
        const Note *old = find(before, note.id), *other = find(there, note.id);
        if (!same(&note, old))
            out.push_back(note);  // changed here
        else if (other)
            out.push_back(*other);
    }
    for (const Note& note : theirs) {
        const Note* old = find(before, note.id);
        if (!find(here, note.id) && !same(&note, old)) out.push_back(note);  // written or changed there
    }
    return out;
}

std::shared_ptr<const Table> noteTable(std::shared_ptr<const Recording> recording, std::vector<Note> notes) {
    return std::make_shared<TableOfNotes>(std::move(recording), std::move(notes));
}

}  // namespace fugato
