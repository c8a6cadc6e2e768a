// SPDX-License-Identifier: GPL-3.0-or-later
//
// What the lines of the source cost, and call stacks as trees both ways: against slow sums over every call stack.
#include <sys/stat.h>

#include <QTemporaryDir>
#include <QtTest>
#include <random>
#include <set>

#include "core/ask/answer_tables.h"
#include "core/ask/source_lines.h"
#include "format/shown_text.h"
#include "testing/files.h"
#include "testing/sampled_recording.h"

using namespace fugato;

namespace {

/// Call stacks at random, deep and with functions that call themselves.
std::shared_ptr<const Recording> randomStacks(uint32_t seed) {
    std::mt19937 random(seed);
    TextRecording t = sampledProgram();
    t.mark(0, 4'000'000, "main", "Work");
    const Sampled all[] = {Sampled::UnpackRows, Sampled::LoadChart, Sampled::RunRegatta, Sampled::Sound,
                           Sampled::FindCourse};
    for (int i = 0; i < 400; ++i) {
        std::vector<Sampled> stack;
        for (uint32_t deep = 1 + random() % 6; deep--;) stack.push_back(all[random() % std::size(all)]);
        sampled(t, 1000 * i + 5, stack);
    }
    return t.open();
}

}  // namespace

class SourceTest : public QObject {
    Q_OBJECT
private slots:
    void linesAreAddedUpOncePerStack() {
        for (uint32_t seed = 1; seed <= 3; ++seed) {
            const auto r = randomStacks(seed);
            const auto symbols = symbolsOf(*r, {});
            const auto stacks = stacksIn(*r, symbols, {wholeOf(*r), false});
            std::map<std::pair<std::string, uint32_t>, std::pair<uint64_t, uint64_t>> slow;  // total, self
            std::vector<Symbols::Place> places;
            for (const StackSample& sample : r->samples) {
                symbols->stackOf(*r, sample, places);
                std::set<std::pair<std::string, uint32_t>> seen;
                for (const Symbols::Place& place : places) {
                    if (place.file == kNone) continue;
                    const std::pair key(symbols->files[place.file], place.line);
                    if (seen.insert(key).second) ++slow[key].first;
                }
                if (places.back().file != kNone)
                    ++slow[{symbols->files[places.back().file], places.back().line}].second;
            }
            QVERIFY(slow.size() >= 5);
            size_t known = 0;
            for (const LineRow& row : stacks->lines) {
                if (row.file == kNone) continue;
                ++known;
                const auto& wanted = slow.at({symbols->files[row.file], row.line});
                QCOMPARE(std::pair(row.total, row.self), wanted);
            }
            QCOMPARE(known, slow.size());
            const auto table = lineTable(stacks);
            QCOMPARE(table->rowLimit(), static_cast<uint32_t>(stacks->lines.size()));
            QCOMPARE(table->value(0, kLineSelfSamples), TableValue(static_cast<int64_t>(stacks->lines[0].self)));
        }
    }

    void treesAreTheSameBothWaysRound() {
        for (uint32_t seed = 1; seed <= 3; ++seed) {
            const auto r = randomStacks(seed);
            const auto stacks = stacksIn(*r, symbolsOf(*r, {}), {wholeOf(*r), false});
            const StackTree turned = stacks->tree.fromInnermost();
            QCOMPARE(turned.total(), stacks->tree.total());
            // Slowly: each call stack as a list of functions, counted.
            const auto listed = [](const StackTree& tree) {
                std::map<std::vector<FunctionId>, uint64_t> all;
                for (uint32_t at = 1; at < tree.nodes().size(); ++at) {
                    if (!tree.nodes()[at].self) continue;
                    std::vector<FunctionId> names;
                    for (uint32_t node = at; node != StackTree::kRoot; node = tree.nodes()[node].parent)
                        names.push_back(tree.nodes()[node].function);
                    all[names] += tree.nodes()[at].self;
                }
                return all;
            };
            auto there = listed(turned);
            std::map<std::vector<FunctionId>, uint64_t> back;
            for (const auto& [names, count] : there) back[{names.rbegin(), names.rend()}] = count;
            QVERIFY(back == listed(stacks->tree));
            // The innermost functions stand at the top, with what was counted of each.
            for (const uint32_t node : turned.nodes()[StackTree::kRoot].children)
                for (const FunctionRow& row : stacks->functions)
                    if (row.function == turned.nodes()[node].function) QCOMPARE(turned.nodes()[node].total, row.self);
            const auto tree = std::make_shared<const StackTree>(turned);
            const auto table = callTable(stacks, tree);
            uint64_t top = 0;
            for (uint32_t i = 0; i < table->countBelow(Table::kTop); ++i)
                top += static_cast<uint64_t>(
                    std::get<int64_t>(table->value(table->rowBelow(Table::kTop, i), kCallSamples)));
            QCOMPARE(top, turned.total());
            QVERIFY(table->columns()[kCallSelf].empty);  // callers have none of their own there
        }
    }

    void keysOfCallsStay() {
        const auto r = randomStacks(9);
        const auto symbols = symbolsOf(*r, {});
        const auto all = stacksIn(*r, symbols, {wholeOf(*r), false}),
                   half = stacksIn(*r, symbols, {TimeRange{r->begin, r->end / 2}, false});
        const auto keyed = [](const std::shared_ptr<const Stacks>& stacks) {
            const auto table = callTable(stacks, std::shared_ptr<const StackTree>(stacks, &stacks->tree));
            std::map<uint64_t, std::string> keys;
            for (Table::Row row = 0; row < table->rowLimit(); ++row) {
                std::string path;
                for (Table::Row at = row; at != Table::kTop; at = table->parentOf(at))
                    path += std::get<std::string>(table->value(at, kCallFunction)) + "/";
                keys[table->keyOf(row)] = path;
            }
            return keys;
        };
        const auto whole = keyed(all);
        QCOMPARE(whole.size(), all->tree.nodes().size() - 1);  // each has its own
        for (const auto& [key, path] : keyed(half)) QCOMPARE(whole.at(key), path);
    }

    void aFileIsReadWithWhatItsLinesCost() {
        QTemporaryDir folder;
        const std::string path = folder.filePath("race.cpp").toStdString();
        putBytes(path, "int main() {\n\tsail();  // \x1b[31m\n}\r\nno end\xff");
        const auto file = readSource("demo/race.cpp", path);
        QVERIFY(file);
        QCOMPARE(file->lines.size(), size_t{4});
        QCOMPARE(file->lines[1], std::string("    sail();  // \\x1b[31m"));
        QCOMPARE(file->lines[2], std::string("}"));
        QVERIFY(isShownText(file->lines[3]));

        TextRecording t;
        t.line(R"({"define":"site","id":1,"name":"Sail","file":"/build/demo/race.cpp","line":2})");
        t.line(R"({"define":"site","id":2,"name":"Row","file":"/build/demo/row.cpp","line":2})");
        t.mark(0, 5, "main", "Sail").mark(6, 9, "main", "Sail").mark(10, 20, "main", "Row");
        const auto r = t.open();
        const auto markers = groupedMarkers(*r, nestedMarkers(*r, wholeOf(*r)), MarkersBy::Marker);
        const auto table = sourceTable(r, std::make_shared<const SourceFile>(*file), nullptr, markers);
        QCOMPARE(table->rowLimit(), 4u);
        QCOMPARE(table->value(1, kSourceLine), TableValue(int64_t{2}));
        QCOMPARE(table->value(1, kSourceMarkers), TableValue(int64_t{8000}));
        QCOMPARE(table->value(1, kSourceCalls), TableValue(int64_t{2}));
        QCOMPARE(table->help(1), std::string("Sail"));
        QCOMPARE(table->value(0, kSourceMarkers), TableValue());
        QVERIFY(table->columns()[kSourceSelf].empty && !table->columns()[kSourceMarkers].empty);
    }

    void stacksCostLinesOfTheirFile() {
        const auto r = sampledFrames().open();
        const auto stacks = stacksIn(*r, symbolsOf(*r, {}), {wholeOf(*r), false});
        const std::string name = "testing/sampled_library.cpp", path = std::string(FUGATO_SOURCE_DIR) + "/" + name;
        const auto file = readSource(name, path);
        QVERIFY(file);
        const auto table = sourceTable(r, std::make_shared<const SourceFile>(*file), stacks, nullptr);
        int64_t self = 0;
        for (Table::Row row = 0; row < table->rowLimit(); ++row)
            if (const TableValue value = table->value(row, kSourceSelf); value != TableValue()) {
                self += std::get<int64_t>(value);
                QVERIFY(file->lines[row].find("unpack_rows") != std::string::npos ||
                        file->lines[row].find("rows") != std::string::npos || file->lines[row].find('}') == 0);
            }
        QCOMPARE(self, int64_t{3 * 18} * 1'000'000);  // three frames, 18 samples in unpack_rows each
    }

    void whatIsNoSourceIsRefused() {
        QTemporaryDir folder;
        const std::string pipe = folder.filePath("pipe").toStdString(), large = folder.filePath("large").toStdString();
        QCOMPARE(mkfifo(pipe.c_str(), 0600), 0);
        QVERIFY(!readSource("pipe", pipe));
        QVERIFY(!readSource("nothing", folder.filePath("nothing").toStdString()));
        QVERIFY(!readSource("folder", folder.path().toStdString()));
        putBytes(large, "x");
        QCOMPARE(truncate(large.c_str(), static_cast<off_t>(kLargestSource) + 1), 0);
        const auto refused = readSource("large", large);
        QVERIFY(!refused && refused.failure().sentence.find("too large") != std::string::npos);
        putBytes(large, "");
        QVERIFY(readSource("empty", large)->lines.empty());
    }

    void filesAreTheSameByTheirEnd() {
        QVERIFY(sameSource("demo/race.cpp", "/build/demo/race.cpp"));
        QVERIFY(sameSource("/build/demo/race.cpp", "race.cpp"));
        QVERIFY(!sameSource("/build/demo/race.cpp", "ace.cpp"));
        QVERIFY(!sameSource("/a/race.cpp", "/b/race.cpp"));
        QVERIFY(!sameSource("race.cpp", ""));
    }
};

QTEST_MAIN(SourceTest)
#include "source_test.moc"
