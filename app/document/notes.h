// SPDX-License-Identifier: GPL-3.0-or-later
//
// What the person noted of the open recording. Read and written on other threads; what another window or program wrote
// into the same file meanwhile is taken in. Interface thread only.
#pragma once

#include <QObject>
#include <memory>

#include "app/work/background_query.h"
#include "core/notes/notes.h"

namespace fugato {

class Notes : public QObject {
    Q_OBJECT
public:
    explicit Notes(QObject* parent = nullptr);
    ~Notes() override { finish(); }
    /// Of another recording, or none.
    void open(const QString& recordingPath, const Recording* recording);
    const std::vector<Note>& all() const { return notes_; }
    const Note* find(const std::string& id) const;
    /// Adds it, or puts it in the place of the one with its id.
    void put(Note note);
    void remove(const std::string& id);
    void setAll(std::vector<Note> notes);  // for undo
    bool busy() const { return reading_.busy() || saving_.busy(); }
    /// What has not been written yet is, before this returns; at the program's end.
    void finish();

signals:
    void changed();  // by the person
    void loaded();   // those of another recording, or what another program wrote
    void failed(const QString& sentence);

private:
    void save();
    std::string place() const;

    std::vector<Note> notes_, base_;  // base: as they stand in the file
    NotesFile about_;                 // whose they are
    std::string path_;                // empty: no recording, or one whose notes cannot be kept
    bool ready_ = false, unsaved_ = false;
    BackgroundQuery reading_, saving_;
};

}  // namespace fugato
