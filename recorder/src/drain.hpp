// SPDX-License-Identifier: MIT
//
// From the threads' buffers into blocks: what the background thread does, and whoever else must. All of it is called
// with outputMutex held.
#pragma once

#include <functional>

#include "recorder_state.hpp"

namespace fugato::recording {

/// Packs what the thread has published since the last look. Returns the number of slots taken.
uint64_t collect(Recorder& r, RecordedLane& lane, uint64_t now) FUGATO_NEEDS(r.outputMutex);
/// Writes what was collected of a lane; from then on its slots are free for the thread.
void writePending(Recorder& r, RecordedLane& lane) FUGATO_NEEDS(r.outputMutex);
/// One look at every lane. Returns how many nanoseconds the buffers can do without another.
uint64_t drain(Recorder& r, bool all) FUGATO_NEEDS(r.outputMutex);

/// Both clocks at one instant: where another program took the core in between, they are read again.
layout::ClockPair readClocks();
void writeClock(Recorder& r) FUGATO_NEEDS(r.outputMutex);

/// [set-up] Replaces what is recorded of each category.
void changeDetails(const std::function<void(DetailSettings&)>& change);
/// As fug_detail(), from any thread of the recorder's too.
void setDetail(const char* category, int level);

/// A buffer for a lane, which may lie elsewhere or be smaller than wished, or be null; then the reason is told.
layout::BufferEntry* takeBuffer(Recorder& r, uint32_t lane) FUGATO_NEEDS(r.lanesMutex);
void setStatus(Recorder& r, const std::string& text) FUGATO_NEEDS(r.lanesMutex);

/// A thread on which no signal of the program's ever arrives; false where there can be none.
bool startThread(pthread_t& thread, void* (*run)(void*), void* argument = nullptr);
/// Starts the threads that belong to a recording. None where the system gives none.
void startBackground(Recorder& r) FUGATO_NEEDS(r.outputMutex);

}  // namespace fugato::recording
