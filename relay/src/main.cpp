// SPDX-License-Identifier: GPL-3.0-or-later
//
// fugato-relay: started by hand on a device whose programs are to be recorded from another machine.
#include <signal.h>
#include <sys/stat.h>
#include <unistd.h>

#include <CLI/CLI.hpp>
#include <atomic>
#include <filesystem>
#include <iostream>

#include "relay.h"

namespace {

std::atomic<bool> ended{false};

/// Where recordings lie until they have been fetched: a folder of this user's alone.
std::string defaultFolder() {
    const char* const named = std::getenv("XDG_CACHE_HOME");
    const char* const home = std::getenv("HOME");
    return (named && *named == '/' ? std::string(named) : std::string(home ? home : "/tmp") + "/.cache") +
           "/fugato/relay";
}

int run(int argc, char** argv) {
    CLI::App app{"Lets programs on this device be recorded from another machine, until Ctrl+C."};
    fugato::line::RelayOptions options;
    char host[256] = "device";
    gethostname(host, sizeof host - 1);
    options.name = host;
    options.folder = defaultFolder();
    app.add_option("--port", options.port, "where it listens")->capture_default_str();
    app.add_option("--address", options.address, "on which address of this device; 0.0.0.0: on all")
        ->capture_default_str();
    app.add_option("--name", options.name, "what the device is called there")->capture_default_str();
    app.add_option("--folder", options.folder, "where recordings lie until they have been fetched")
        ->capture_default_str();
    CLI11_PARSE(app, argc, argv);

    std::error_code error;
    const bool isNew = std::filesystem::create_directories(options.folder, error);
    if (error || (isNew && ::chmod(options.folder.c_str(), 0700) != 0)) {
        std::cerr << "The folder " << options.folder << " cannot be made. --folder takes another one.\n";
        return 1;
    }
    const std::string code = fugato::line::newPairingCode();
    const auto key = fugato::line::keyOf(code);
    if (!key) {
        std::cerr << "No random numbers can be had, so there is no pairing code.\n";
        return 1;
    }
    options.key = *key;
    fugato::line::Relay relay(options);
    if (const std::string trouble = relay.open(); !trouble.empty()) {
        std::cerr << trouble << "\n";
        return 1;
    }
    for (const int number : {SIGINT, SIGTERM}) signal(number, [](int) { ended.store(true); });
    signal(SIGPIPE, SIG_IGN);
    std::cout << "Listening on port " << relay.port() << ". On the other machine:\n\n    fugato-cli connect "
              << options.name << (relay.port() == fugato::line::kPort ? "" : ":" + std::to_string(relay.port()))
              << "\n\nor Record > Connect to a device, with\n\n    pairing code  " << code << "\n\n"
              << "Anyone with this code can record this user's programs. Ctrl+C ends it.\n"
              << std::flush;
    relay.run([] { return ended.load(); }, [](const std::string& line) { std::cout << line << std::endl; });
    return 0;
}

}  // namespace

int main(int argc, char** argv) {
    try {
        return run(argc, argv);
    } catch (const std::exception& failure) {
        std::fprintf(stderr, "fugato-relay: %s\n", failure.what());
        return 1;
    }
}
