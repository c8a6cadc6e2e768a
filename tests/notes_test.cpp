// SPDX-License-Identifier: GPL-3.0-or-later
//
// Notes in their file: written and read back, damaged, of other versions, and changed by two at once.
#include "core/notes/notes.h"

#include <sys/stat.h>

#include <QTemporaryDir>
#include <QtTest>
#include <random>

#include "testing/files.h"
#include "testing/text_recording.h"

using namespace fugato;

namespace {

Note made(const std::string& id, const std::string& text) {
    Note note;
    note.id = id;
    note.text = text;
    return note;
}

std::string textsOf(const std::vector<Note>& notes) {
    std::string texts;
    for (const Note& note : notes) texts += note.id + "=" + note.text + " ";
    return texts;
}

}  // namespace

class NotesTest : public QObject {
    Q_OBJECT

    QTemporaryDir folder_;
    std::string path(const char* name) { return folder_.filePath(name).toStdString(); }

private slots:
    void whatIsWrittenIsReadBack() {
        NotesFile file{"id-1", "race", {}};
        Note note = made(newNoteId(), "Sails: “drawn” twice\n\tand slowly");
        note.about = NoteAbout::Spike;
        note.name = "spike at frame 7";
        note.state = NoteState::ToMend;
        note.begin = 5;
        note.end = 17;
        note.series = "race";
        note.frame = 7;
        note.changedUnixMs = 1'700'000'000'000;
        file.notes.push_back(note);
        note = made(newNoteId(), "");
        note.about = NoteAbout::Marker;
        note.lane = "thread/main";
        note.marker = "Race frame/Simulate";
        note.state = NoteState::Accepted;
        file.notes.push_back(note);
        const std::string at = path("a.notes.json");
        QVERIFY(writeNotes(at, file));
        const auto read = readNotes(at);
        QVERIFY(read);
        QCOMPARE(read->recordingId, file.recordingId);
        QCOMPARE(read->program, file.program);
        QVERIFY(read->notes == file.notes);
        QVERIFY(newNoteId() != newNoteId());
        // No other file is left.
        QCOMPARE(QDir(folder_.path()).entryList({"a.*"}).size(), 1);
    }

    void withoutAFileThereAreNone() {
        const auto none = readNotes(path("none.json"));
        QVERIFY(none && none->notes.empty());
        QVERIFY(!writeNotes(path("no/folder.json"), {}));
    }

    void whatCannotBeReadIsSaid() {
        const auto refused = [&](const std::string& bytes) {
            putBytes(path("bad.json"), QByteArray::fromStdString(bytes));
            const auto read = readNotes(path("bad.json"));
            return read ? std::string("read") : read.failure().sentence;
        };
        for (const char* bytes : {"", "no json", "[1,2]", "{}", "{\"fugato_notes\":\"1\"}", "{\"fugato_notes\":0}"})
            QVERIFY2(refused(bytes).find("damaged, or something else") != std::string::npos, bytes);
        QVERIFY(refused("{\"fugato_notes\":2}").find("newer version") != std::string::npos);
        QVERIFY(refused(std::string(200'000, '[')).find("damaged") != std::string::npos);
        QCOMPARE(mkfifo(path("pipe").c_str(), 0600), 0);
        QVERIFY(!readNotes(path("pipe")));
    }

    void whatIsOddInANoteIsLeftOut() {
        putBytes(path("odd.json"),
                 R"({"fugato_notes":1,"recording":7,"more":true,"notes":[3,{},
                    {"id":"a","about":"moon","state":"lost","text":4,"begin_ns":-5,"end_ns":"x","frame":-1},
                    {"id":"a","about":"frame","frame":4294967295,"begin_ns":9,"end_ns":3}]})");
        const auto read = readNotes(path("odd.json"));
        QVERIFY(read);
        QCOMPARE(read->notes.size(), size_t{3});
        QVERIFY(!read->notes[0].id.empty());
        QCOMPARE(read->notes[1].id, std::string("a"));
        QVERIFY(read->notes[2].id != "a");  // no two are the same
        for (const Note& note : read->notes) {
            QVERIFY(note.begin >= 0 && note.end >= note.begin);
            QCOMPARE(note.frame, kNone);
            QVERIFY(note.state == NoteState::None && note.text.empty());
        }
    }

    void twoMayChangeThemAtOnce() {
        const std::vector<Note> base{made("a", "1"), made("b", "1"), made("c", "1"), made("d", "1")};
        // Here a is changed, b removed, e written; there b is changed, c removed, d changed, f written.
        const std::vector<Note> mine{made("a", "2"), made("c", "1"), made("d", "1"), made("e", "1")};
        const std::vector<Note> theirs{made("a", "1"), made("b", "3"), made("d", "3"), made("f", "3")};
        QCOMPARE(textsOf(mergedNotes(base, mine, theirs)), std::string("a=2 d=3 e=1 b=3 f=3 "));
        QCOMPARE(textsOf(mergedNotes(base, base, base)), textsOf(base));
        QCOMPARE(textsOf(mergedNotes(base, mine, base)), textsOf(mine));
        QCOMPARE(textsOf(mergedNotes({}, {}, theirs)), textsOf(theirs));
        QCOMPARE(textsOf(mergedNotes(base, {}, base)), std::string());
    }

    void mergingLosesNothingThatWasChanged() {
        std::mt19937 random(4);
        for (int round = 0; round < 300; ++round) {
            std::vector<Note> base;
            for (int i = 0; i < 6; ++i) base.push_back(made(std::to_string(i), "old"));
            const auto changed = [&](const char* by) {
                std::vector<Note> notes;
                for (const Note& note : base)
                    if (random() % 4) notes.push_back(random() % 3 ? note : made(note.id, by));
                for (int i = 0; i < 2; ++i) notes.push_back(made(by + std::to_string(i), "new"));
                return notes;
            };
            const auto mine = changed("mine"), theirs = changed("theirs");
            const auto merged = mergedNotes(base, mine, theirs);
            const auto in = [](const std::vector<Note>& notes, const Note& note) {
                return std::find(notes.begin(), notes.end(), note) != notes.end();
            };
            const auto has = [](const std::vector<Note>& notes, const std::string& id) {
                return std::any_of(notes.begin(), notes.end(), [&](const Note& n) { return n.id == id; });
            };
            for (const Note& note : mine)
                if (!in(base, note)) QVERIFY(in(merged, note));  // what was written or changed here
            for (const Note& note : theirs)
                if (!in(base, note) &&
                    !(has(mine, note.id) && !in(base, *std::find_if(mine.begin(), mine.end(),
                                                                    [&](const Note& n) { return n.id == note.id; }))))
                    QVERIFY(in(merged, note));  // there, unless it was changed here, too
            for (const Note& note : base)
                if (in(mine, note) && !has(theirs, note.id)) QVERIFY(!has(merged, note.id));  // removed there
        }
    }

    void asATable() {
        std::vector<Note> notes{made("a", "Sails\x1b[31m"), made("b", "later")};
        notes[0].state = NoteState::ToMend;
        notes[0].about = NoteAbout::Stretch;
        notes[0].name = "start";
        notes[0].begin = 5000;
        notes[0].end = 9000;
        TextRecording text;
        text.lane("main", 1).mark(0, 40, "main", "Race");
        const auto table = noteTable(text.open(), notes);
        QCOMPARE(table->rowLimit(), 2u);
        QCOMPARE(table->value(0, kNoteText), TableValue(std::string("Sails\\x1b[31m")));
        QCOMPARE(table->value(0, kNoteState), TableValue(std::string("to mend")));
        QCOMPARE(table->value(0, kNoteKind), TableValue(std::string("stretch")));
        QCOMPARE(table->value(0, kNoteAt), TableValue(int64_t{5000}));
        QCOMPARE(table->value(0, kNoteLength), TableValue(int64_t{4000}));
        QCOMPARE(table->value(1, kNoteAt), TableValue());
        QVERIFY(table->keyOf(0) != table->keyOf(1));
        QCOMPARE(noteText(notes[0]), std::string("to mend · start: Sails\\x1b[31m"));
    }
};

QTEST_MAIN(NotesTest)
#include "notes_test.moc"
