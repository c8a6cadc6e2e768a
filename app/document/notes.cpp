// SPDX-License-Identifier: GPL-3.0-or-later
#include "notes.h"

#include <QDateTime>
#include <algorithm>

#include "app/theme/words.h"
#include "core/model/keys.h"

namespace fugato {

namespace {

struct Written {
    std::vector<Note> notes;
    std::string why;  // not
};

/// Writes what is here and what another program wrote since.
std::shared_ptr<const Written> writeMerged(const std::string& path, const NotesFile& about,
                                           const std::vector<Note>& base, const std::vector<Note>& mine) {
    auto written = std::make_shared<Written>();
    const auto theirs = readNotes(path);
    if (!theirs) {
        written->notes = mine;
        written->why = theirs.failure().sentence;
        return written;
    }
    NotesFile file = about;
    file.notes = written->notes = mergedNotes(base, mine, theirs->notes);
    if (const auto done = writeNotes(path, file); !done) written->why = done.failure().sentence;
    return written;
}

}  // namespace

Notes::Notes(QObject* parent) : QObject(parent) {
    const auto tell = [this](const QString& sentence) { emit failed(sentence); };
    connect(&reading_, &BackgroundQuery::failed, this, tell);
    connect(&saving_, &BackgroundQuery::failed, this, tell);
}

void Notes::open(const QString& recordingPath, const Recording* recording) {
    finish();
    reading_.silence();
    notes_.clear();
    base_.clear();
    about_ = {};
    path_.clear();
    ready_ = unsaved_ = false;
    emit loaded();
    if (!recording || recordingPath.isEmpty()) return;
    path_ = notesPath(recordingPath.toStdString());
    about_.recordingId = recordingId(*recording);
    if (const auto program = recording->context.find("program"); program != recording->context.end())
        about_.program = program->second;
    reading_.ask([path = path_](const Progress&) { return std::make_shared<const Result<NotesFile>>(readNotes(path)); },
                 [this](const std::shared_ptr<const Result<NotesFile>>& read) {
                     if (!*read) {
                         path_.clear();  // what is there must not be written over
                         return emit failed(toQString(read->failure().sentence));
                     }
                     const NotesFile& file = **read;
                     if (!file.recordingId.empty() && file.recordingId != about_.recordingId)
                         emit failed(
                             tr("The notes beside this recording were written of another one. They are shown "
                                "all the same; their times may not fit."));
                     base_ = file.notes;
                     ready_ = true;
                     // What was noted before the file was read is kept.
                     for (const Note& note : notes_)
                         if (!std::any_of(base_.begin(), base_.end(), [&](const Note& n) { return n.id == note.id; }))
                             unsaved_ = true;
                     notes_ = mergedNotes({}, notes_, base_);
                     emit loaded();
                     if (unsaved_) save();
                 });
}

const Note* Notes::find(const std::string& id) const {
    const auto at = std::find_if(notes_.begin(), notes_.end(), [&](const Note& note) { return note.id == id; });
    return at == notes_.end() ? nullptr : &*at;
}

void Notes::put(Note note) {
    note.changedUnixMs = QDateTime::currentMSecsSinceEpoch();
    if (note.id.empty()) note.id = newNoteId();
    std::vector<Note> next = notes_;
    const auto at = std::find_if(next.begin(), next.end(), [&](const Note& n) { return n.id == note.id; });
    if (at == next.end())
        next.push_back(std::move(note));
    else
        *at = std::move(note);
    setAll(std::move(next));
}

void Notes::remove(const std::string& id) {
    std::vector<Note> next = notes_;
    std::erase_if(next, [&](const Note& note) { return note.id == id; });
    setAll(std::move(next));
}

void Notes::setAll(std::vector<Note> notes) {
    if (notes == notes_) return;
    notes_ = std::move(notes);
    unsaved_ = true;
    emit changed();
    if (ready_) save();
    if (path_.empty())
        emit failed(tr("Notes of this recording cannot be kept: what lies beside it under their name cannot be read."));
}

/// One after the other; what changes meanwhile is written next.
void Notes::save() {
    if (saving_.busy() || path_.empty() || !ready_) return;
    unsaved_ = false;
    saving_.ask([path = path_, about = about_, base = base_,
                 mine = notes_](const Progress&) { return writeMerged(path, about, base, mine); },
                [this, mine = notes_](const std::shared_ptr<const Written>& written) {
                    if (!written->why.empty()) return emit failed(toQString(written->why));
                    const std::vector<Note> now = mergedNotes(mine, notes_, written->notes);
                    base_ = written->notes;
                    const bool others = now != notes_;
                    notes_ = now;
                    if (others) emit loaded();
                    if (unsaved_) save();
                });
}

void Notes::finish() {
    if (!saving_.busy() && !unsaved_) return;
    if (path_.empty() || !ready_) return;
    saving_.silence();  // what it writes is written again, with what came since
    const auto written = writeMerged(path_, about_, base_, notes_);
    unsaved_ = false;
    if (written->why.empty()) base_ = written->notes;
}

}  // namespace fugato
