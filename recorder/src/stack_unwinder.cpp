// SPDX-License-Identifier: MIT
#include "stack_unwinder.hpp"

#include <asm/perf_regs.h>
#include <link.h>

#include <algorithm>
#include <cstring>

namespace fugato::recording {

namespace {

using How = FrameRule::How;
constexpr size_t kRegisters = FrameRule::kRegisters;

/// Reads what is left of a part of memory; after the first reading beyond it everything is 0.
class Reader {
public:
    Reader(const uint8_t* at, const uint8_t* end) : at_(at), end_(end), good_(at && at <= end) {}
    bool good() const { return good_; }
    bool atEnd() const { return !good_ || at_ == end_; }
    const uint8_t* at() const { return at_; }
    size_t left() const { return good_ ? static_cast<size_t>(end_ - at_) : 0; }
    void skip(uint64_t bytes) { bytes <= left() ? void(at_ += bytes) : fail(); }
    void endAfter(uint64_t bytes) { bytes <= left() ? void(end_ = at_ + bytes) : fail(); }
    void fail() { good_ = false; }

    template <class T>
    T number() {
        T value{};
        if (left() < sizeof value) return fail(), T{};
        std::memcpy(&value, at_, sizeof value);
        at_ += sizeof value;
        return value;
    }
    uint64_t leb() {
        uint64_t value = 0;
        for (unsigned shift = 0; good_; shift += 7) {
            const auto byte = number<uint8_t>();
            if (shift < 64) value |= uint64_t{byte & 0x7fu} << shift;
            if (!(byte & 0x80)) break;
        }
        return value;
    }
    int64_t signedLeb() {
        uint64_t value = 0;
        for (unsigned shift = 0; good_;) {
            const auto byte = number<uint8_t>();
            if (shift < 64) value |= uint64_t{byte & 0x7fu} << shift;
            shift += 7;
            if (byte & 0x80) continue;
            if ((byte & 0x40) && shift < 64) value |= ~uint64_t{0} << shift;
            break;
        }
        return static_cast<int64_t>(value);
    }
    std::string_view block() {
        const uint64_t bytes = leb();
        const auto* from = reinterpret_cast<const char*>(at_);
        skip(bytes);
        return good_ ? std::string_view(from, bytes) : std::string_view();
    }
    /// A pointer as the Linux Standard Base encodes it. `isSize`: only how it is stored counts.
    uint64_t pointer(uint8_t encoding, uint64_t dataBase, bool isSize = false) {
        constexpr uint8_t kFromHere = 0x10, kFromData = 0x30;
        const auto here = reinterpret_cast<uint64_t>(at_);
        uint64_t value = 0;
        switch (encoding & 0x0f) {
            case 0x00:
            case 0x04:
            case 0x0c: value = number<uint64_t>(); break;
            case 0x01: value = leb(); break;
            case 0x02: value = number<uint16_t>(); break;
            case 0x03: value = number<uint32_t>(); break;
            case 0x09: value = static_cast<uint64_t>(signedLeb()); break;
            case 0x0a: value = static_cast<uint64_t>(int64_t{number<int16_t>()}); break;
            case 0x0b: value = static_cast<uint64_t>(int64_t{number<int32_t>()}); break;
            default: fail();
        }
        if (isSize) return value;
        switch (encoding & 0xf0) {
            case 0x00: return value;
            case kFromHere: return value + here;
            case kFromData: return value + dataBase;
            default: return fail(), 0;
        }
    }

private:
    const uint8_t* at_;
    const uint8_t* end_;
    bool good_;
};

/// What descriptions of functions have in common: a CIE.
struct Common {
    uint64_t codeUnit = 1;
    int64_t dataUnit = 1;
    uint64_t returnRegister = FrameRule::kReturnAddress;
    uint8_t pointers = 0;  // how they are encoded
    bool hasMore = false, interrupted = false;
    Reader instructions{nullptr, nullptr};
};

/// Goes behind the length of a description, and ends behind it. False: it has none that is read here.
bool begin(Reader& reader) {
    const auto length = reader.number<uint32_t>();
    constexpr uint32_t kLonger = 0xffffffff;
    if (!length || length == kLonger) return false;
    reader.endAfter(length);
    return reader.good();
}

bool readCommon(Reader reader, Common& common) {
    if (!begin(reader) || reader.number<uint32_t>() != 0) return false;
    const auto version = reader.number<uint8_t>();
    if (version != 1 && version != 3) return false;
    std::string letters;
    while (const char letter = reader.number<char>()) letters += letter;
    common.codeUnit = reader.leb();
    common.dataUnit = reader.signedLeb();
    common.returnRegister = version == 1 ? reader.number<uint8_t>() : reader.leb();
    for (const char letter : letters) switch (letter) {
            case 'z':
                common.hasMore = true;
                reader.leb();
                break;
            case 'R': common.pointers = reader.number<uint8_t>(); break;
            case 'P': {
                const auto encoding = reader.number<uint8_t>();
                reader.pointer(encoding, 0, true);
                break;
            }
            case 'L': reader.number<uint8_t>(); break;
            case 'S': common.interrupted = true; break;
            default: return false;
        }
    common.instructions = reader;
    return reader.good();
}

/// Follows instructions up to `address`.
class Instructions {
public:
    Instructions(const Common& common, uint64_t from, uint64_t address)
        : common_(common), at_(from), address_(address) {}

    /// False: one of them is not known or damaged.
    bool follow(Reader reader, FrameRule& rule) {
        while (!reader.atEnd() && at_ <= address_)
            if (!next(reader, rule)) return false;
        return reader.good();
    }
    void initial(const FrameRule& rule) { initial_ = rule; }

private:
    static constexpr size_t kMostRemembered = 16;

    void set(FrameRule& rule, uint64_t number, FrameRule::Value value) {
        if (number < kRegisters) rule.registers[number] = value;  // others never matter for a caller
    }
    bool setFrame(FrameRule& rule, uint64_t base, int64_t offset) {
        rule.frame = {How::IsOffset, static_cast<uint8_t>(base), static_cast<int32_t>(offset), {}};
        return base < kRegisters;
    }
    FrameRule::Value offset(How how, int64_t units) const {
        return {how, 0, static_cast<int32_t>(units * common_.dataUnit), {}};
    }
    static FrameRule::Value inRegister(uint64_t number) {
        if (number >= kRegisters) return {How::Unknown, 0, 0, {}};
        return {How::InRegister, static_cast<uint8_t>(number), 0, {}};
    }

    bool next(Reader& reader, FrameRule& rule) {
        const auto code = reader.number<uint8_t>();
        const uint8_t operand = code & 0x3f;
        switch (code >> 6) {  // DW_CFA_…
            case 1: return advance(operand);
            case 2: return set(rule, operand, offset(How::AtOffset, static_cast<int64_t>(reader.leb()))), true;
            case 3: return set(rule, operand, initial_.registers[std::min<size_t>(operand, kRegisters - 1)]), true;
            default: break;
        }
        const auto number = [&] { return reader.leb(); };
        const auto signedNumber = [&] { return reader.signedLeb(); };
        uint64_t which = 0;
        switch (code) {
            case 0x00: return true;  // nop
            case 0x01:               // set_loc
                at_ = reader.pointer(common_.pointers, 0);
                return true;
            case 0x02: return advance(reader.number<uint8_t>());
            case 0x03: return advance(reader.number<uint16_t>());
            case 0x04: return advance(reader.number<uint32_t>());
            case 0x05:  // offset_extended
                which = number();
                return set(rule, which, offset(How::AtOffset, static_cast<int64_t>(number()))), true;
            case 0x06:  // restore_extended
                which = number();
                if (which < kRegisters) rule.registers[which] = initial_.registers[which];
                return true;
            case 0x07: return set(rule, number(), {How::Unknown, 0, 0, {}}), true;  // undefined
            case 0x08: return set(rule, number(), {How::Same, 0, 0, {}}), true;     // same_value
            case 0x09:                                                              // register
                which = number();
                return set(rule, which, inRegister(number())), true;
            case 0x0a:  // remember_state
                if (remembered_.size() == kMostRemembered) return false;
                remembered_.push_back(rule);
                return true;
            case 0x0b:  // restore_state
                if (remembered_.empty()) return false;
                rule = remembered_.back();
                remembered_.pop_back();
                return true;
            case 0x0c:  // def_cfa
                which = number();
                return setFrame(rule, which, static_cast<int64_t>(number()));
            case 0x0d: return setFrame(rule, number(), rule.frame.offset);                            // its register
            case 0x0e: return setFrame(rule, rule.frame.other, static_cast<int64_t>(number()));       // its offset
            case 0x0f: return rule.frame = {How::IsExpression, 0, 0, reader.block()}, reader.good();  // expression
            case 0x10: which = number(); return set(rule, which, {How::AtExpression, 0, 0, reader.block()}), true;
            case 0x11:  // offset_extended_sf
                which = number();
                return set(rule, which, offset(How::AtOffset, signedNumber())), true;
            case 0x12:  // def_cfa_sf
                which = number();
                return setFrame(rule, which, signedNumber() * common_.dataUnit);
            case 0x13: return setFrame(rule, rule.frame.other, signedNumber() * common_.dataUnit);
            case 0x14:  // val_offset
                which = number();
                return set(rule, which, offset(How::IsOffset, static_cast<int64_t>(number()))), true;
            case 0x15: which = number(); return set(rule, which, offset(How::IsOffset, signedNumber())), true;
            case 0x16:  // val_expression
                which = number();
                return set(rule, which, {How::IsExpression, 0, 0, reader.block()}), true;
            case 0x2e: return number(), true;  // GNU_args_size
            default: return false;
        }
    }
    bool advance(uint64_t units) {
        at_ += units * common_.codeUnit;
        return true;
    }

    const Common& common_;
    uint64_t at_, address_;
    FrameRule initial_;
    std::deque<FrameRule> remembered_;
};

}  // namespace

bool evaluate(std::string_view expression, const uint64_t* registers, const uint64_t* frame, const CopiedStack& stack,
              uint64_t& result) {
    constexpr size_t kMost = 32;
    uint64_t values[kMost];
    size_t count = 0;
    const auto* at = reinterpret_cast<const uint8_t*>(expression.data());
    Reader reader(at, at + expression.size());
    const auto push = [&](uint64_t value) {
        if (count == kMost) return reader.fail();
        values[count++] = value;
    };
    const auto pop = [&]() -> uint64_t {
        if (!count) return reader.fail(), 0;
        return values[--count];
    };
    if (frame) push(*frame);
    while (!reader.atEnd()) {
        const auto code = reader.number<uint8_t>();
        if (code >= 0x30 && code <= 0x4f) {  // lit0 …
            push(code - 0x30u);
            continue;
        }
        if (code >= 0x70 && code <= 0x8f) {  // breg0 …
            if (code - 0x70u >= kRegisters) return false;
            push(registers[code - 0x70] + static_cast<uint64_t>(reader.signedLeb()));
            continue;
        }
        uint64_t a = 0, b = 0;
        const auto two = [&] {
            b = pop();
            a = pop();
        };
        switch (code) {
            case 0x06:  // deref
                if (!stack.word(pop(), a)) return false;
                push(a);
                break;
            case 0x08: push(reader.number<uint8_t>()); break;
            case 0x09: push(static_cast<uint64_t>(int64_t{reader.number<int8_t>()})); break;
            case 0x0a: push(reader.number<uint16_t>()); break;
            case 0x0b: push(static_cast<uint64_t>(int64_t{reader.number<int16_t>()})); break;
            case 0x0c: push(reader.number<uint32_t>()); break;
            case 0x0d: push(static_cast<uint64_t>(int64_t{reader.number<int32_t>()})); break;
            case 0x10: push(reader.leb()); break;
            case 0x11: push(static_cast<uint64_t>(reader.signedLeb())); break;
            case 0x12: push(a = pop()), push(a); break;  // dup
            case 0x13: pop(); break;                     // drop
            case 0x16: two(), push(b), push(a); break;   // swap
            case 0x1a: two(), push(a & b); break;
            case 0x1c: two(), push(a - b); break;
            case 0x21: two(), push(a | b); break;
            case 0x22: two(), push(a + b); break;
            case 0x23: push(pop() + reader.leb()); break;
            case 0x24: two(), push(b < 64 ? a << b : 0); break;
            case 0x25: two(), push(b < 64 ? a >> b : 0); break;
            case 0x29: two(), push(a == b); break;
            case 0x2a: two(), push(static_cast<int64_t>(a) >= static_cast<int64_t>(b)); break;
            case 0x2b: two(), push(static_cast<int64_t>(a) > static_cast<int64_t>(b)); break;
            case 0x2c: two(), push(static_cast<int64_t>(a) <= static_cast<int64_t>(b)); break;
            case 0x2d: two(), push(static_cast<int64_t>(a) < static_cast<int64_t>(b)); break;
            case 0x2e: two(), push(a != b); break;
            case 0x96: break;  // nop
            default: return false;
        }
    }
    result = pop();
    return reader.good();
}

namespace {

/// Frame pointers: the caller's lies where this one points to, and beside it where the caller goes on.
const FrameRule& framePointerRule() {
    static const FrameRule kRule = [] {
        FrameRule rule;
        rule.frame = {How::IsOffset, FrameRule::kFramePointer, 16, {}};
        rule.registers[FrameRule::kFramePointer] = {How::AtOffset, 0, -16, {}};
        rule.registers[FrameRule::kReturnAddress] = {How::AtOffset, 0, -8, {}};
        rule.known = true;
        return rule;
    }();
    return kRule;
}

/// Goes to the caller. False: there is none, or it cannot be found.
bool leave(const FrameRule& rule, uint64_t* registers, const CopiedStack& stack) {
    uint64_t frame = 0;
    if (rule.frame.how == How::IsExpression) {
        if (!evaluate(rule.frame.expression, registers, nullptr, stack, frame)) return false;
    } else {
        frame = registers[rule.frame.other] + static_cast<uint64_t>(int64_t{rule.frame.offset});
    }
    if (frame <= registers[FrameRule::kStackPointer] && !rule.interrupted) return false;
    uint64_t caller[kRegisters];
    for (size_t i = 0; i < kRegisters; ++i) {
        const FrameRule::Value& value = rule.registers[i];
        const uint64_t at = frame + static_cast<uint64_t>(int64_t{value.offset});
        uint64_t& into = caller[i] = registers[i];
        bool found = true;
        switch (value.how) {
            case How::Same: found = i != FrameRule::kReturnAddress; break;
            case How::Unknown: found = false; break;
            case How::AtOffset: found = stack.word(at, into); break;
            case How::IsOffset: into = at; break;
            case How::InRegister: into = registers[value.other]; break;
            case How::AtExpression:
                found = evaluate(value.expression, registers, &frame, stack, into) && stack.word(into, into);
                break;
            case How::IsExpression: found = evaluate(value.expression, registers, &frame, stack, into); break;
        }
        if (!found) {
            if (i == FrameRule::kReturnAddress) return false;
            into = 0;
        }
    }
    if (rule.registers[FrameRule::kStackPointer].how == How::Same) caller[FrameRule::kStackPointer] = frame;
    std::copy(caller, caller + kRegisters, registers);
    return registers[FrameRule::kReturnAddress] != 0;
}

/// The description of the function at an address, by its module's sorted table of them.
struct Description {
    const uint8_t* entry = nullptr;
    Readable memory;
};

Description descriptionIn(const dl_phdr_info& module, uint64_t address) {
    const auto at = [&](uint64_t offset) { return reinterpret_cast<const uint8_t*>(module.dlpi_addr + offset); };
    const uint8_t* table = nullptr;
    bool holds = false;
    for (int i = 0; i < module.dlpi_phnum; ++i) {
        const auto& part = module.dlpi_phdr[i];
        if (part.p_type == PT_GNU_EH_FRAME) table = at(part.p_vaddr);
        holds |= part.p_type == PT_LOAD && address - module.dlpi_addr - part.p_vaddr < part.p_memsz;
    }
    Description found;
    if (!holds || !table) return found;
    for (int i = 0; i < module.dlpi_phnum; ++i) {
        const auto& part = module.dlpi_phdr[i];
        const Readable memory{at(part.p_vaddr), at(part.p_vaddr + part.p_memsz)};
        if (part.p_type == PT_LOAD && (part.p_flags & PF_R) && memory.begin <= table && table < memory.end)
            found.memory = memory;
    }
    Reader reader(table, found.memory.end);
    constexpr uint8_t kCount = 0x03, kEntries = 0x3b;  // the only form that linkers make
    const auto version = reader.number<uint8_t>(), frames = reader.number<uint8_t>(), count = reader.number<uint8_t>(),
               entries = reader.number<uint8_t>();
    if (version != 1 || count != kCount || entries != kEntries) return found;
    const auto base = reinterpret_cast<uint64_t>(table);
    reader.pointer(frames, base);
    const auto rows = reader.number<uint32_t>();
    if (!reader.good() || !rows || rows > reader.left() / 8) return found;
    const uint8_t* const row = reader.at();
    const auto number = [&](size_t n, size_t second) {
        int32_t value;
        std::memcpy(&value, row + n * 8 + second * 4, sizeof value);
        return base + static_cast<uint64_t>(int64_t{value});
    };
    size_t low = 0, high = rows;  // the last one that begins at the address or before
    while (high - low > 1) {
        const size_t middle = low + (high - low) / 2;
        (number(middle, 0) <= address ? low : high) = middle;
    }
    found.entry = reinterpret_cast<const uint8_t*>(number(low, 1));
    return found;
}

}  // namespace

FrameRule ruleOf(const uint8_t* entry, Readable memory, uint64_t address) {
    FrameRule rule;
    if (entry < memory.begin || entry >= memory.end) return rule;
    Reader reader(entry, memory.end);
    if (!begin(reader)) return rule;
    const uint8_t* const here = reader.at();
    const auto back = reader.number<uint32_t>();
    Common common;
    if (!back || back > static_cast<size_t>(here - memory.begin) || !readCommon({here - back, memory.end}, common))
        return rule;
    const uint64_t from = reader.pointer(common.pointers, 0);
    const uint64_t size = reader.pointer(common.pointers, 0, true);
    if (common.hasMore) reader.block();
    if (!reader.good() || address - from >= size || common.returnRegister != FrameRule::kReturnAddress) return rule;
    Instructions instructions(common, from, address);
    if (!instructions.follow(common.instructions, rule)) return rule;
    instructions.initial(rule);
    rule.known = instructions.follow(reader, rule);
    rule.interrupted = common.interrupted;
    return rule;
}

bool StackUnwinder::isPossible() {
#ifdef __x86_64__
    return true;
#else
    return false;
#endif
}

namespace {
#ifdef __x86_64__
/// As the system numbers them, in DWARF's order.
constexpr unsigned kToldNumber[kRegisters] = {
    PERF_REG_X86_AX,  PERF_REG_X86_DX,  PERF_REG_X86_CX,  PERF_REG_X86_BX,  PERF_REG_X86_SI,  PERF_REG_X86_DI,
    PERF_REG_X86_BP,  PERF_REG_X86_SP,  PERF_REG_X86_R8,  PERF_REG_X86_R9,  PERF_REG_X86_R10, PERF_REG_X86_R11,
    PERF_REG_X86_R12, PERF_REG_X86_R13, PERF_REG_X86_R14, PERF_REG_X86_R15, PERF_REG_X86_IP};
#else
constexpr unsigned kToldNumber[kRegisters] = {};
#endif
}  // namespace

uint64_t StackUnwinder::wantedRegisters() {
    uint64_t wanted = 0;
    for (const unsigned number : kToldNumber) wanted |= uint64_t{1} << number;
    return wanted;
}

void StackUnwinder::beginPolling() {
    uint64_t changes = 0;
    dl_iterate_phdr(
        [](dl_phdr_info* info, size_t, void* into) {
            *static_cast<uint64_t*>(into) = info->dlpi_adds + info->dlpi_subs;
            return 1;
        },
        &changes);
    if (changes == moduleChanges_) return;
    moduleChanges_ = changes;
    rules_.clear();
    expressions_.clear();
}

const FrameRule& StackUnwinder::ruleAt(uint64_t address) {
    constexpr size_t kMost = 1 << 12;
    if (rules_.size() == kMost) {
        rules_.clear();
        expressions_.clear();
    }
    const auto [known, isNew] = rules_.try_emplace(address);
    FrameRule& rule = known->second;
    if (!isNew) return rule;
    struct Search {
        StackUnwinder& self;
        uint64_t address;
        FrameRule& rule;
    } search{*this, address, rule};
    // While modules are gone through none of them is unloaded.
    dl_iterate_phdr(
        [](dl_phdr_info* info, size_t, void* data) {
            auto& [self, wanted, into] = *static_cast<Search*>(data);
            const Description found = descriptionIn(*info, wanted);
            if (!found.entry) return 0;
            into = ruleOf(found.entry, found.memory, wanted);
            const auto keep = [&self = self](FrameRule::Value& value) {
                if (!value.expression.empty()) value.expression = self.expressions_.emplace_back(value.expression);
            };
            keep(into.frame);
            for (FrameRule::Value& value : into.registers) keep(value);
            return 1;
        },
        &search);
    if (!rule.known) rule = framePointerRule();
    return rule;
}

size_t StackUnwinder::unwind(const uint64_t* told, std::string_view stack, uint64_t* into, size_t most) {
    uint64_t registers[kRegisters];
    const uint64_t wanted = wantedRegisters();
    for (size_t i = 0; i < kRegisters; ++i)  // they are told in the order of the system's numbers
        registers[i] = told[__builtin_popcountll(wanted & ((uint64_t{1} << kToldNumber[i]) - 1))];
    const CopiedStack copied{registers[FrameRule::kStackPointer], stack};
    size_t count = 0;
    bool called = false;  // where a call returns to lies behind the call, and maybe in another function
    while (count < most) {
        const uint64_t address = registers[FrameRule::kReturnAddress];
        into[count++] = address;
        const FrameRule& rule = ruleAt(address - called);
        called = !rule.interrupted;
        if (!leave(rule, registers, copied)) break;
    }
    return count;
}

}  // namespace fugato::recording
