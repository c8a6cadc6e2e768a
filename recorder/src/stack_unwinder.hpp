// SPDX-License-Identifier: MIT
//
// Call stacks out of copied stacks, by the call frame information that compilers leave beside the code of x86-64
// programs: DWARF 5, section 6.4, as .eh_frame of the Linux Standard Base holds it. Code without it, as programs make
// while they run, is taken to have frame pointers. Belongs to one thread; of this process only.
#pragma once

#include <cstddef>
#include <cstdint>
#include <cstring>
#include <deque>
#include <string>
#include <string_view>
#include <unordered_map>

namespace fugato::recording {

/// How to find the caller of the function that executes some instruction. Registers have DWARF's numbers.
struct FrameRule {
    static constexpr size_t kRegisters = 17;  // the last one: where the caller goes on
    static constexpr size_t kFramePointer = 6, kStackPointer = 7, kReturnAddress = 16;
    enum class How : uint8_t { Same, Unknown, AtOffset, IsOffset, InRegister, AtExpression, IsExpression };
    struct Value {
        How how = How::Same;
        uint8_t other = 0;            // register that it is in, or that `offset` is added to
        int32_t offset = 0;           // of a register: from the frame's address
        std::string_view expression;  // begins with the frame's address
    };
    Value frame;  // its address, that of the stack before the call: IsOffset or IsExpression
    Value registers[kRegisters];
    bool known = false;
    bool interrupted = false;  // the caller did not call; a signal interrupted it
};

/// A part of memory that may be read.
struct Readable {
    const uint8_t* begin = nullptr;
    const uint8_t* end = nullptr;
};

/// The rule for `address` by the description of its function (an FDE) at `entry`. Nothing outside `memory` is read; not
/// known where the description is damaged, or of another function.
FrameRule ruleOf(const uint8_t* entry, Readable memory, uint64_t address);

/// A copied stack that began at `from`.
struct CopiedStack {
    uint64_t from = 0;
    std::string_view bytes;
    bool word(uint64_t address, uint64_t& value) const {
        if (address < from || bytes.size() < sizeof value || address - from > bytes.size() - sizeof value) return false;
        std::memcpy(&value, bytes.data() + (address - from), sizeof value);
        return true;
    }
};

/// What an expression of a rule comes to (DWARF 5, section 2.5, as far as compilers use it for frames): of kRegisters
/// registers and, where it is given, the frame's address, which it begins with. False: it is damaged or holds something
/// else, or reads what was not copied.
bool evaluate(std::string_view expression, const uint64_t* registers, const uint64_t* frame, const CopiedStack& stack,
              uint64_t& result);

class StackUnwinder {
public:
    /// Whether this processor's stacks can be read.
    static bool isPossible();
    /// Which of a thread's registers perf_event_open is to tell: its sample_regs_user.
    static uint64_t wantedRegisters();
    /// Forgets what it knows of modules where others have been loaded since.
    void beginPolling();
    /// Takes the registers as told, and what lies from the stack pointer on. The addresses, the innermost first.
    size_t unwind(const uint64_t* told, std::string_view stack, uint64_t* into, size_t most);

private:
    const FrameRule& ruleAt(uint64_t address);

    std::unordered_map<uint64_t, FrameRule> rules_;  // by address
    std::deque<std::string> expressions_;            // of these rules
    uint64_t moduleChanges_ = 0;
};

}  // namespace fugato::recording
