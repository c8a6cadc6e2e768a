// SPDX-License-Identifier: MIT
//
// What the calling thread is in while it is inside the recorder.
#pragma once

#include <signal.h>

namespace fugato::recording {

/// Set while the calling thread is inside the recorder, so that a memory hook that comes in between does
/// nothing. A plain thread's variable, so that reaching it costs nothing.
extern __thread bool inside;

class InsideRecorder {
public:
    InsideRecorder() : before_(inside) { inside = true; }
    ~InsideRecorder() { inside = before_; }  // back to what was before

    InsideRecorder(const InsideRecorder&) = delete;
    InsideRecorder& operator=(const InsideRecorder&) = delete;

private:
    bool before_;
};

/// A call that may take locks, memory and files. Until it is over no signal handler runs on this thread and it
/// is not cancelled: a handler that calls exit() or records would meet locks that its own thread holds. A
/// SIGXFSZ that writing brought about never reaches the program.
class SetUpCall {
public:
    SetUpCall();
    ~SetUpCall();
    SetUpCall(const SetUpCall&) = delete;
    SetUpCall& operator=(const SetUpCall&) = delete;

private:
    InsideRecorder inside_;
    sigset_t before_;
    bool hadSizeSignal_ = false;
    int cancelState_ = 0;
};

}  // namespace fugato::recording
