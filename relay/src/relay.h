// SPDX-License-Identifier: GPL-3.0-or-later
//
// The relay on a device: takes one line at a time from a side that has the pairing code, and passes on between it and
// the programs of this device that offer themselves. One thread.
#pragma once

#include <list>
#include <map>
#include <memory>
#include <string>
#include <vector>

#include "relay/line/secure_line.h"
#include "relayed_program.h"

namespace fugato::line {

struct RelayOptions {
    std::string address = "0.0.0.0";
    uint16_t port = kPort;  // 0: one that is free
    std::string name;       // of the device, as it is shown
    std::string folder;     // where recordings lie until they have been fetched
    Key key{};
};

class Relay {
public:
    explicit Relay(RelayOptions options) : options_(std::move(options)) {}
    /// Listens. A sentence where that cannot be.
    std::string open();
    uint16_t port() const { return options_.port; }
    /// Until `stop` says so; `tell` gets a line for whatever a person may want to know.
    void run(const std::function<bool()>& stop, const std::function<void(const std::string&)>& tell);

private:
    struct Greeting {  // has not shown yet that it has the key
        SecureLine line;
        std::string from;
    };
    void takeCallers();
    void greet();
    void workOnLine();
    void lose(const std::string& why);
    void take(const Chunk& chunk);
    void takeWord(const control::Message& word);
    void listPrograms(bool always);
    void leavePrograms();
    RelayedProgram* on(uint32_t channel);

    RelayOptions options_;
    std::function<void(const std::string&)> tell_;
    Descriptor listening_;
    std::list<Greeting> greetings_;
    std::unique_ptr<SecureLine> line_;
    bool leaves_ = false;  // the other side has said so
    std::chrono::steady_clock::time_point heard_, said_, listed_, lost_;
    std::vector<std::unique_ptr<RelayedProgram>> programs_;
    std::string listedPrograms_;
};

}  // namespace fugato::line
