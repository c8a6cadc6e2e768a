// SPDX-License-Identifier: GPL-3.0-or-later
//
// A line between two machines: TLS 1.3 whose key both sides have from a pairing code (a pre-shared key with forward
// secrecy; there are no certificates), carrying chunks. Made of a connected socket; waits for nothing: who has it polls
// descriptor() for events() and calls work(). One thread at a time.
#pragma once

#include <chrono>
#include <memory>
#include <optional>
#include <string>

#include "chunks.h"
#include "own_files.hpp"
#include "pairing_code.h"

namespace fugato::line {

class SecureLine {
public:
    enum class Side { Device, Client };
    SecureLine(Descriptor socket, Side side, const Key& key);
    ~SecureLine();
    SecureLine(SecureLine&&) noexcept;
    SecureLine& operator=(SecureLine&&) noexcept;

    int descriptor() const;
    short events() const;  // what poll() is to wait for
    /// Goes on with whatever can go on. False once the line is over; trouble() then says why.
    bool work();
    /// Both sides have shown that they have the key.
    bool isOpen() const;
    std::string trouble() const;

    /// What has come; also of a line that is over by now.
    std::optional<Chunk> next();
    void send(const Chunk& chunk);
    /// Bytes that were not taken by the network yet.
    size_t unsent() const;

private:
    struct Parts;
    std::unique_ptr<Parts> parts_;
};

}  // namespace fugato::line
