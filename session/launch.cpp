// SPDX-License-Identifier: GPL-3.0-or-later
#include "launch.h"

#include <fcntl.h>
#include <poll.h>
#include <signal.h>
#include <sys/syscall.h>
#include <sys/wait.h>
#include <unistd.h>

#include <cerrno>
#include <charconv>
#include <cstring>
#include <filesystem>

#include "collecting.h"
#include "format/number_text.h"

extern char** environ;

namespace fugato {

namespace {

namespace fs = std::filesystem;

std::string textOf(const RecordedAmount& amount) {
    if (amount.frames) return std::to_string(*amount.frames) + "f";
    if (amount.seconds) return fixedText(*amount.seconds, 3) + "s";
    return {};
}

/// This process's environment with what is to be added.
std::vector<std::string> environmentFor(const std::vector<std::pair<std::string, std::string>>& added) {
    std::vector<std::string> out;
    for (char** one = environ; *one; ++one) {
        const std::string_view text = *one;
        const std::string_view name = text.substr(0, text.find('='));
        bool replaced = false;
        for (const auto& [key, value] : added) replaced = replaced || key == name;
        if (!replaced) out.emplace_back(text);
    }
    for (const auto& [key, value] : added) out.push_back(key + "=" + value);
    return out;
}

std::vector<char*> pointersTo(std::vector<std::string>& texts) {
    std::vector<char*> out;
    for (std::string& text : texts) out.push_back(text.data());
    out.push_back(nullptr);
    return out;
}

}  // namespace

std::optional<RecordedAmount> amountIn(const std::string& text) {
    RecordedAmount amount;
    const char *const begin = text.data(), *const end = begin + text.size();
    uint64_t frames = 0;
    if (!text.empty() && text.back() == 'f') {
        const auto read = std::from_chars(begin, end - 1, frames);
        if (read.ec != std::errc() || read.ptr != end - 1 || frames > 1'000'000'000) return std::nullopt;
        amount.frames = frames;
        return amount;
    }
    double seconds = 0;
    const char* const until = !text.empty() && text.back() == 's' ? end - 1 : end;
    const auto read = std::from_chars(begin, until, seconds);
    if (read.ec != std::errc() || read.ptr != until || !(seconds >= 0 && seconds <= 1e8)) return std::nullopt;
    amount.seconds = seconds;
    return amount;
}

Result<std::string> preloadLibrary(bool memory) {
    const std::string name = memory ? "libfugato-preload-memory.so" : "libfugato-preload.so";
    std::error_code error;
    const fs::path here = fs::read_symlink("/proc/self/exe", error).parent_path();
    for (const fs::path& folder : {here, here / FUGATO_FROM_BIN_TO_LIB})  // as built, and as installed
        if (const fs::path path = folder / name; fs::exists(path, error)) return path.lexically_normal().string();
    return Failure{"The library that records unmodified programs, " + name + ", is neither in " + here.string() +
                   " nor in " + (here / FUGATO_FROM_BIN_TO_LIB).lexically_normal().string() +
                   ". Build or install Fugato anew."};
}

Result<LaunchedProgram> LaunchedProgram::start(const Launch& launch) {
    auto file = lookAtProgram(launch.program, launch.folder);
    if (!file) return file.failure();
    std::error_code error;
    if (!launch.folder.empty() && !fs::is_directory(launch.folder, error))
        return Failure{"The folder " + launch.folder + " is not there."};
    auto added = launch.environment;
    added.emplace_back("FUGATO_RECORD",
                       launch.recording.empty() ? std::string() : fs::absolute(launch.recording, error).string());
    added.emplace_back("FUGATO_OFFER", "1");
    added.emplace_back("FUGATO_MOMENTS", launch.moments ? textOf(*launch.moments) : std::string());
    // Most unmodified programs are built without frame pointers.
    const bool copies = file->how == ProgramFile::How::Preloaded;
    added.emplace_back("FUGATO_COLLECT", !launch.collect.empty() ? launch.collect
                                         : copies                ? "switches,samples,stack-copies,blocking,load"
                                                                 : "switches,samples,blocking,load");
    added.emplace_back("FUGATO_LEAVE_OUT", textOf(launch.leaveOut));
    added.emplace_back("FUGATO_RECORD_FOR", textOf(launch.length));
    if (file->how == ProgramFile::How::Preloaded) {
        const auto library = preloadLibrary(collectsMemory(launch.collect));
        if (!library) return library.failure();
        if (library->find_first_of(" :") != std::string::npos)
            return Failure{"The path " + *library +
                           " holds a space or a colon, with which the system cannot load a library before others. "
                           "Move Fugato to another folder."};
        const char* before = std::getenv("LD_PRELOAD");
        for (const auto& [key, value] : launch.environment)
            if (key == "LD_PRELOAD") before = value.c_str();
        added.emplace_back("LD_PRELOAD", *library + (before && *before ? ":" + std::string(before) : ""));
    }
    std::vector<std::string> environment = environmentFor(added);
    std::vector<std::string> arguments{launch.program};
    arguments.insert(arguments.end(), launch.arguments.begin(), launch.arguments.end());
    const std::vector<char*> environmentPointers = pointersTo(environment), argumentPointers = pointersTo(arguments);
    const std::string program = file->script.empty() ? file->path : file->script;

    int pipe[2];
    if (::pipe2(pipe, O_CLOEXEC) != 0)
        return Failure{std::string("No program can be started: ") + std::strerror(errno)};
    const pid_t process = ::fork();
    if (process == 0) {
        if (!launch.folder.empty() && ::chdir(launch.folder.c_str()) != 0) {
            const int why = errno;
            (void)!::write(pipe[1], &why, sizeof why);
            ::_exit(127);
        }
        ::signal(SIGINT, SIG_DFL);
        ::signal(SIGPIPE, SIG_DFL);
        ::signal(SIGXFSZ, SIG_DFL);
        ::execve(program.c_str(), argumentPointers.data(), environmentPointers.data());
        const int why = errno;
        (void)!::write(pipe[1], &why, sizeof why);
        ::_exit(127);
    }
    const int forkError = errno;
    ::close(pipe[1]);
    if (process < 0) {
        ::close(pipe[0]);
        return Failure{std::string("No program can be started: ") + std::strerror(forkError)};
    }
    int why = 0;
    ssize_t told = 0;
    do told = ::read(pipe[0], &why, sizeof why);
    while (told < 0 && errno == EINTR);
    ::close(pipe[0]);
    if (told == ssize_t{sizeof why}) {
        ::waitpid(process, nullptr, 0);
        return Failure{program + " cannot be started: " + std::strerror(why)};
    }
    return LaunchedProgram(process, std::move(*file));
}

LaunchedProgram::LaunchedProgram(LaunchedProgram&& other) noexcept
    : process_(other.process_), file_(std::move(other.file_)), status_(other.status_) {}

std::string whyNothingWasRecorded(const Launch& launch, const ProgramFile& file) {
    const bool left = launch.leaveOut.frames || launch.leaveOut.seconds;
    if (file.how == ProgramFile::How::Itself)
        return launch.program + " carries the recorder, but nothing was recorded" +
               (left ? ": it ended before what is to be left out had passed."
                     : "; the folder of " + launch.recording + " may not be writable for it.");
    return launch.program + " showed no picture" + (left ? " after what is to be left out" : "") +
           ", so nothing was recorded. Unmodified programs are recorded from their pictures (OpenGL, EGL, "
           "Vulkan, SDL 2) on; any other can be built with the recorder.";
}

bool LaunchedProgram::waitFor(int ms) {
    const auto ended = [&] {
        int status = 0;
        if (!status_ && ::waitpid(process_, &status, WNOHANG) == process_) status_ = status;
        return status_.has_value();
    };
    if (ended()) return true;
    const auto file = static_cast<int>(::syscall(SYS_pidfd_open, process_, 0));
    pollfd waiting{file, POLLIN, 0};
    (void)::poll(&waiting, file >= 0 ? 1 : 0, ms);
    if (file >= 0) ::close(file);
    return ended();
}

std::string LaunchedProgram::howItEnded() const {
    if (!status_) return {};
    if (WIFSIGNALED(*status_))
        return "was ended by signal " + std::to_string(WTERMSIG(*status_)) + " (" + strsignal(WTERMSIG(*status_)) + ")";
    if (WEXITSTATUS(*status_)) return "ended with exit code " + std::to_string(WEXITSTATUS(*status_));
    return {};
}

void LaunchedProgram::signal(int number) const {
    if (!status_) ::kill(process_, number);
}

}  // namespace fugato
