// SPDX-License-Identifier: GPL-3.0-or-later
#include "chunks.h"

namespace fugato::line {

namespace {

constexpr size_t kLengthBytes = 4, kHeadBytes = 16;  // behind the length

template <class Number>
void put(std::string& to, Number value) {
    for (size_t i = 0; i < sizeof value; ++i) to += static_cast<char>(value >> (8 * i) & 0xff);
}
template <class Number>
Number get(std::string_view from, size_t at) {
    Number value = 0;
    for (size_t i = 0; i < sizeof value; ++i)
        value |= static_cast<Number>(static_cast<Number>(static_cast<uint8_t>(from[at + i])) << (8 * i));
    return value;
}

}  // namespace

Chunk wordChunk(const control::Message& word, uint32_t channel) {
    return {Chunk::Kind::Word, channel, 0, control::packetOf(word)};
}

std::string bytesOf(const Chunk& chunk) {
    std::string out;
    out.reserve(kLengthBytes + kHeadBytes + chunk.bytes.size());
    put(out, static_cast<uint32_t>(kHeadBytes + chunk.bytes.size()));
    put(out, static_cast<uint32_t>(chunk.kind));
    put(out, chunk.channel);
    put(out, chunk.number);
    out += chunk.bytes;
    return out;
}

std::optional<Chunk> ChunkReader::next() {
    if (bad_ || waiting() < kLengthBytes) return std::nullopt;
    const std::string_view rest = std::string_view(buffer_).substr(at_);
    const auto length = get<uint32_t>(rest, 0);
    bad_ = length < kHeadBytes || length > kHeadBytes + kMostBytes;  // before any memory is taken for it
    if (bad_ || rest.size() < kLengthBytes + length) return std::nullopt;
    const auto kind = get<uint32_t>(rest, kLengthBytes);
    if (kind < static_cast<uint32_t>(Chunk::Kind::Word) || kind > static_cast<uint32_t>(Chunk::Kind::End)) {
        bad_ = true;
        return std::nullopt;
    }
    Chunk chunk{static_cast<Chunk::Kind>(kind), get<uint32_t>(rest, kLengthBytes + 4),
                get<uint64_t>(rest, kLengthBytes + 8),
                std::string(rest.substr(kLengthBytes + kHeadBytes, length - kHeadBytes))};
    at_ += kLengthBytes + length;
    if (at_ == buffer_.size() || at_ > kMostBytes) {
        buffer_.erase(0, at_);
        at_ = 0;
    }
    return chunk;
}

}  // namespace fugato::line
