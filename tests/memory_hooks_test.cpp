// SPDX-License-Identifier: GPL-3.0-or-later
//
// The allocation hooks alone: in which order they tell, with the recorder and the C library's realloc replaced.
#include <fugato/fugato.h>
#include <malloc.h>

#include <QtTest>
#include <cstdlib>
#include <cstring>

namespace {
const void* watched = nullptr;
bool failing = false;
char told[16];
int count = 0;
const void* taken = nullptr;
uint64_t takenBytes = 0;

void note(char what) {
    if (watched && count < 15) told[count++] = what;
}
}  // namespace

extern "C" {
void fug_memory_given(uint32_t, const void* address) {
    if (address == watched) note('g');
}
void fug_memory_taken(uint32_t, const void* address, uint64_t bytes, const char*) {
    note('t');
    if (watched) taken = address, takenBytes = bytes;
}
void* __real___libc_realloc(void* before, size_t size);
void* __wrap___libc_realloc(void* before, size_t size) {
    if (before == watched) note('r');
    return failing && watched ? nullptr : __real___libc_realloc(before, size);
}
}

class MemoryHooksTest : public QObject {
    Q_OBJECT
    static void* watch(void* block) {
        std::memset(told, 0, sizeof told);
        count = 0;
        watched = block;
        return block;
    }

private slots:
    void reallocTellsGivenBeforeItFrees() {
        void* block = watch(std::malloc(100));
        void* grown = std::realloc(block, 100'000);
        watched = nullptr;
        QCOMPARE(told, "grt");
        QVERIFY(taken == grown);
        QVERIFY(takenBytes == 100'000);
        std::free(grown);
    }

    void aReallocThatFailsKeepsItsBlockAccountedFor() {
        void* block = watch(std::malloc(100));
        failing = true;
        void* none = std::realloc(block, 200'000);
        failing = false;
        watched = nullptr;
        QVERIFY(!none);
        QCOMPARE(told, "grt");
        QVERIFY(taken == block);
        QVERIFY(takenBytes >= 100);
        std::free(block);
    }
};

QTEST_GUILESS_MAIN(MemoryHooksTest)
#include "memory_hooks_test.moc"
