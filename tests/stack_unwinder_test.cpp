// SPDX-License-Identifier: GPL-3.0-or-later
//
// Finding callers in copied stacks: descriptions of frames written by hand, damaged ones, and this program's own code.
#include "stack_unwinder.hpp"

#include <QtTest>
#include <random>

using namespace fugato::recording;
using How = FrameRule::How;

namespace {

constexpr uint64_t kFunctionAt = 0x4000, kFunctionBytes = 0x100;

void put32(std::string& bytes, uint32_t value) { bytes.append(reinterpret_cast<const char*>(&value), sizeof value); }
void put64(std::string& bytes, uint64_t value) { bytes.append(reinterpret_cast<const char*>(&value), sizeof value); }

/// What compilers write of a function at kFunctionAt: what all have in common (a return address below the frame's
/// address, which is the stack pointer + 8 at first), then the function's own instructions.
struct Described {
    std::string bytes;
    size_t entry = 0;
};
Described described(const std::string& instructions, const std::string& common = {"\x0c\x07\x08\x90\x01", 5},
                    const std::string& letters = "zR") {
    Described made;
    std::string head;
    put32(head, 0);
    head += '\x01' + letters + '\0';
    head += {'\x01', '\x78', '\x10', '\x01', '\x00'};  // units of 1 and −8; the return address is 16; absolute pointers
    head += common;
    while (head.size() % 4) head += '\0';
    put32(made.bytes, static_cast<uint32_t>(head.size()));
    made.bytes += head;
    made.entry = made.bytes.size();
    std::string own;
    put32(own, static_cast<uint32_t>(made.entry + 4));
    put64(own, kFunctionAt);
    put64(own, kFunctionBytes);
    own += '\0';
    own += instructions;
    put32(made.bytes, static_cast<uint32_t>(own.size()));
    made.bytes += own;
    return made;
}
FrameRule ruleIn(const std::string& bytes, size_t entry, uint64_t address) {
    const std::vector<uint8_t> exact(bytes.begin(), bytes.end());  // so that reading beyond it is seen
    return ruleOf(exact.data() + std::min(entry, exact.size()), {exact.data(), exact.data() + exact.size()}, address);
}
FrameRule ruleAt(const Described& made, uint64_t address) { return ruleIn(made.bytes, made.entry, address); }

/// push rbp; mov rbp, rsp … leave
const std::string kWithFramePointer("\x41\x0e\x10\x86\x02\x43\x0d\x06\x02\x20\x0c\x07\x08", 13);

}  // namespace

class StackUnwinderTest : public QObject {
    Q_OBJECT

private slots:
    void rulesChangeAlongAFunction() {
        const Described made = described(kWithFramePointer);
        const FrameRule begin = ruleAt(made, kFunctionAt);
        QVERIFY(begin.known && !begin.interrupted);
        QCOMPARE(int(begin.frame.other), int(FrameRule::kStackPointer));
        QCOMPARE(begin.frame.offset, 8);
        QCOMPARE(int(begin.registers[FrameRule::kReturnAddress].how), int(How::AtOffset));
        QCOMPARE(begin.registers[FrameRule::kReturnAddress].offset, -8);
        QCOMPARE(int(begin.registers[FrameRule::kFramePointer].how), int(How::Same));
        const FrameRule pushed = ruleAt(made, kFunctionAt + 1);
        QCOMPARE(pushed.frame.offset, 16);
        QCOMPARE(pushed.registers[FrameRule::kFramePointer].offset, -16);
        const FrameRule inside = ruleAt(made, kFunctionAt + 0x10);
        QCOMPARE(int(inside.frame.other), int(FrameRule::kFramePointer));
        QCOMPARE(inside.frame.offset, 16);
        QCOMPARE(int(ruleAt(made, kFunctionAt + 0x24).frame.other), int(FrameRule::kStackPointer));
        for (const uint64_t outside : {kFunctionAt - 1, kFunctionAt + kFunctionBytes, uint64_t{0}})
            QVERIFY(!ruleAt(made, outside).known);
    }

    void savedMovedAndUnknownRegisters() {
        // remember; 16 more; restore; rbx in r12; r13 the same; r14 unknown; r15 at −3 · −8; rbp by an expression
        const FrameRule rule = ruleAt(
            described(std::string("\x0a\x0e\x18\x0b\x09\x03\x0c\x08\x0d\x07\x0e\x11\x0f\x7d\x10\x06\x02\x77\x08", 19)),
            kFunctionAt);
        QVERIFY(rule.known);
        QCOMPARE(rule.frame.offset, 8);
        QCOMPARE(int(rule.registers[3].how), int(How::InRegister));
        QCOMPARE(int(rule.registers[3].other), 12);
        QCOMPARE(int(rule.registers[13].how), int(How::Same));
        QCOMPARE(int(rule.registers[14].how), int(How::Unknown));
        QCOMPARE(rule.registers[15].offset, 24);
        QCOMPARE(int(rule.registers[6].how), int(How::AtExpression));
        QVERIFY(ruleAt(described("", {"\x0c\x07\x08\x90\x01", 5}, "zRS"), kFunctionAt).interrupted);
        // What is not known: an instruction, a letter, a register of the frame's address, too much restored.
        QVERIFY(!ruleAt(described("\x3f"), kFunctionAt).known);
        QVERIFY(!ruleAt(described("", {"\x0c\x07\x08\x90\x01", 5}, "zQ"), kFunctionAt).known);
        QVERIFY(!ruleAt(described(std::string("\x0c\x30\x08", 3)), kFunctionAt).known);
        QVERIFY(!ruleAt(described("\x0b"), kFunctionAt).known);
    }

    void damagedDescriptionsAreNotReadBeyondTheirEnd() {
        const Described good = described(kWithFramePointer);
        for (size_t size = 0; size < good.bytes.size(); ++size)
            QVERIFY(!ruleIn(good.bytes.substr(0, size), good.entry, kFunctionAt + 0x10).known);
        std::mt19937 random(7);
        size_t known = 0;
        for (int i = 0; i < 20'000; ++i) {
            Described bad = good;
            for (int changes = 0; changes < 1 + i % 4; ++changes)
                bad.bytes[random() % bad.bytes.size()] = static_cast<char>(random());
            known += ruleAt(bad, kFunctionAt + random() % kFunctionBytes).known;
        }
        QVERIFY(known > 0 && known < 20'000);
    }

    void expressionsAreWorkedOut() {
        uint64_t registers[FrameRule::kRegisters] = {};
        registers[FrameRule::kStackPointer] = 0x1000;
        registers[FrameRule::kReturnAddress] = 0x400b;
        const uint64_t words[2] = {0x1111, 0x2222};
        const CopiedStack stack{0x1000, {reinterpret_cast<const char*>(words), sizeof words}};
        const uint64_t frame = 0x1008;
        const auto worked = [&](const std::string& expression, const uint64_t* begin = nullptr) {
            uint64_t result = 0;
            return evaluate(expression, registers, begin, stack, result) ? std::optional(result) : std::nullopt;
        };
        using Worked = std::optional<uint64_t>;
        // As linkers write it of their tables of functions: 8 more from the eleventh byte of an entry on.
        const std::string table("\x77\x08\x80\x00\x3f\x1a\x3b\x2a\x33\x24\x22", 11);
        QCOMPARE(worked(table), Worked(0x1010));
        registers[FrameRule::kReturnAddress] = 0x400a;
        QCOMPARE(worked(table), Worked(0x1008));
        // Constants of each length, signed and not.
        const uint64_t minusTwo = static_cast<uint64_t>(-2);
        QCOMPARE(worked("\x08\xfe"), Worked(0xfe));
        QCOMPARE(worked("\x09\xfe"), Worked(minusTwo));
        QCOMPARE(worked("\x0a\xfe\xff"), Worked(0xfffe));
        QCOMPARE(worked("\x0b\xfe\xff"), Worked(minusTwo));
        QCOMPARE(worked("\x0c\xfe\xff\xff\xff"), Worked(0xfffffffe));
        QCOMPARE(worked("\x0d\xfe\xff\xff\xff"), Worked(minusTwo));
        QCOMPARE(worked("\x10\xfe\x01"), Worked(0xfe));
        QCOMPARE(worked("\x11\x7e"), Worked(minusTwo));
        // Two of them: 7 and 3.
        const std::pair<char, uint64_t> both[] = {{'\x1a', 3},  {'\x1c', 4}, {'\x21', 7}, {'\x22', 10},
                                                  {'\x24', 56}, {'\x25', 0}, {'\x29', 0}, {'\x2a', 1},
                                                  {'\x2b', 1},  {'\x2c', 0}, {'\x2d', 0}, {'\x2e', 1}};
        for (const auto& [what, result] : both) QCOMPARE(worked(std::string("\x37\x33") + what), Worked(result));
        QCOMPARE(worked("\x09\xfe\x33\x2d"), Worked(1));             // −2 < 3
        QCOMPARE(worked("\x37\x08\x40\x24"), Worked(0));             // moved by 64 bits
        QCOMPARE(worked("\x37\x23\x80\x01"), Worked(135));           // and a constant
        QCOMPARE(worked("\x37\x12\x22"), Worked(14));                // twice
        QCOMPARE(worked("\x37\x33\x16\x1c"), Worked(minusTwo - 2));  // 3 − 7
        QCOMPARE(worked("\x37\x33\x13\x96"), Worked(7));
        // What was copied; from the frame's address on.
        QCOMPARE(worked({"\x77\x00\x06", 3}), Worked(0x1111));
        QCOMPARE(worked("\x06", &frame), Worked(0x2222));
        QCOMPARE(worked("\x31\x22\x06", &frame), Worked());  // reaches beyond it
        QCOMPARE(worked("\x30\x06"), Worked());
        // Nothing, too little, too much, cut off, a register that is not told, something else.
        for (const char* bad : {"", "\x22", "\x37\x22", "\x0c\xfe", "\x10\x80", "\x81\x01", "\x28\x01", "\xff"})
            QCOMPARE(worked(bad), Worked());
        QCOMPARE(worked(std::string(32, '\x31')), Worked(1));
        QCOMPARE(worked(std::string(33, '\x31')), Worked());
    }

    void callersAreFoundInACopy() {
        if (!StackUnwinder::isPossible()) QSKIP("Not for this processor.");
        // Code that belongs to no module keeps frame pointers: two frames, then an end.
        constexpr uint64_t kStackAt = 0x7000;
        uint64_t words[6] = {};
        words[1] = kStackAt + 32;  // where rbp points to: the caller's
        words[2] = 0x1111;
        words[4] = 0;  // there is no further caller
        words[5] = 0x2222;
        StackUnwinder unwinder;
        unwinder.beginPolling();
        uint64_t told[17] = {};
        const uint64_t wanted = StackUnwinder::wantedRegisters();
        const auto place = [&](unsigned number) {  // among those that are told
            return __builtin_popcountll(wanted & ((uint64_t{1} << number) - 1));
        };
        constexpr unsigned kToldFramePointer = 6, kToldStackPointer = 7, kToldInstruction = 8;  // of the system
        told[place(kToldFramePointer)] = kStackAt + 8;
        told[place(kToldStackPointer)] = kStackAt;
        told[place(kToldInstruction)] = 0x3333;
        const std::string_view stack(reinterpret_cast<const char*>(words), sizeof words);
        uint64_t found[8] = {};
        QCOMPARE(unwinder.unwind(told, stack, found, 8), size_t{3});
        QCOMPARE(found[0], uint64_t{0x3333});
        QCOMPARE(found[1], uint64_t{0x1111});
        QCOMPARE(found[2], uint64_t{0x2222});
        QCOMPARE(unwinder.unwind(told, stack, found, 2), size_t{2});
        QCOMPARE(unwinder.unwind(told, stack.substr(0, 24), found, 8), size_t{2});  // the rest was not copied
        QCOMPARE(unwinder.unwind(told, {}, found, 8), size_t{1});
        told[place(kToldFramePointer)] = 0;  // nothing that could be one
        QCOMPARE(unwinder.unwind(told, stack, found, 8), size_t{1});
    }
};

QTEST_GUILESS_MAIN(StackUnwinderTest)
#include "stack_unwinder_test.moc"
