// SPDX-License-Identifier: MIT
//
// Recordings whose program ended without closing them. What it had published but not yet written still lies in
// its files of buffers (docs/recording-format.md, "The file of buffers"). Looking never writes. Making whole puts
// that behind the blocks which the recording has and closes it for good; it acts only on what is proven dead, one
// at a time, and either does all of it or leaves everything as it was, so it can be tried again. Functions here
// may run on any thread and in any number of processes at once. They throw std::bad_alloc only.
#pragma once

#include <cstdint>
#include <fugato_blocks.hpp>
#include <functional>
#include <string>
#include <vector>

namespace fugato {

struct Unclosed {
    enum class State {
        Closed,        // or no recording in binary form: it lacks nothing
        BeingWritten,  // by a program that still runs
        CopyOfLive,    // a copy of one that is still being written
        Ended,         // `more` is what its program had not written yet, and the index
        Incomplete     // ended, and its buffers are gone
    } state = State::Closed;
    uint64_t keep = 0;  // so many bytes of the file stay; `more` belongs behind them
    std::string more;
    uint64_t events = 0;               // in `more`
    std::vector<std::string> buffers;  // of no use any more once `more` is in the file
};

/// `path` tells where else to look for buffers. `goOn` as for findBlocks(); where it ends the search the recording
/// counts as incomplete.
Unclosed lookAtUnclosed(int fd, const std::string& path, const layout::GoOn& goOn = {});

struct MadeWhole {
    enum class Outcome {
        NothingToDo,
        Done,
        InUse,  // its program still writes it, or another makes it whole
        Failed  // `error` tells why; nothing has changed
    } outcome = Outcome::NothingToDo;
    int error = 0;
    uint64_t events = 0;  // that were put into it
};
MadeWhole makeWhole(const std::string& path, const layout::GoOn& goOn = {});

/// Looks through a folder for buffers that ended programs of this user left there: makes their recordings whole
/// and removes what is of no use to any. `goOn` is asked between two of them. Returns how many were removed.
unsigned clearLeftBuffers(const std::string& folder, const std::function<bool()>& goOn = {});

inline constexpr char kBuffersPrefix[] = "fugato-", kBuffersSuffix[] = ".buffers";
/// A file of buffers before its header is complete has this ending.
inline constexpr char kNewBuffersSuffix[] = ".new";

}  // namespace fugato
