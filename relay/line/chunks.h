// SPDX-License-Identifier: GPL-3.0-or-later
//
// What goes over the line between a device's relay and who records its programs (docs/relay-protocol.md): chunks of a
// kind, a channel, a number and bytes. A channel is one connection to one program; channel 0 is the line's own. What
// comes from there is not trusted. Throws std::bad_alloc only; one thread at a time.
#pragma once

#include <cstdint>
#include <fugato_control.hpp>
#include <optional>
#include <string>
#include <string_view>

namespace fugato::line {

inline constexpr uint32_t kVersion = 1;
inline constexpr uint32_t kPort = 47470;
inline constexpr size_t kMostBytes = 64 * 1024;  // of one chunk
inline constexpr int kAliveMs = 2'000;           // each side is heard of so often …
inline constexpr int kLostMs = 6'000;            // … and counts as gone when it was not for so long

struct Chunk {
    enum class Kind : uint8_t {
        Word = 1,       // of the line itself: a control::Message in bytes
        Packet = 2,     // of a program or for it: a control::Message in bytes; number: see docs/relay-protocol.md
        Recording = 3,  // bytes of a channel's recording; number: where they belong
        End = 4         // of a channel's recording; number: its size
    } kind = Kind::Word;
    uint32_t channel = 0;
    uint64_t number = 0;
    std::string bytes;
};

Chunk wordChunk(const control::Message& word, uint32_t channel = 0);
/// As it is sent: length of what follows (4 bytes), kind (1), three zeros, channel (4), number (8), the bytes; numbers
/// little end first.
std::string bytesOf(const Chunk& chunk);

/// Takes bytes as they come and gives whole chunks.
class ChunkReader {
public:
    void add(std::string_view bytes) { buffer_.append(bytes); }
    /// Nothing where none is whole yet, or something came that is no chunk.
    std::optional<Chunk> next();
    /// What came was no chunk; nothing more is given.
    bool isBad() const { return bad_; }
    /// Bytes of a chunk that is not whole yet.
    size_t waiting() const { return buffer_.size() - at_; }

private:
    std::string buffer_;
    size_t at_ = 0;
    bool bad_ = false;
};

}  // namespace fugato::line
