// SPDX-License-Identifier: GPL-3.0-or-later
//
// Numbered pieces of work that other threads do in order, ahead of the one that needs their results one by one.
// Where they have not come so far, that one works too.
#pragma once

#include <atomic>
#include <functional>
#include <memory>
#include <vector>

namespace fugato {

class WorkAhead {
public:
    /// Begins at once. `work` is called once for every number below `count`, from several threads at a time.
    WorkAhead(size_t count, std::function<void(size_t piece)> work);
    /// Leaves undone what nobody has begun, and waits for the rest.
    ~WorkAhead();
    WorkAhead(const WorkAhead&) = delete;
    WorkAhead& operator=(const WorkAhead&) = delete;
    /// Returns when `piece` is done. From the thread that made this.
    void need(size_t piece);

private:
    struct Pieces;
    std::shared_ptr<Pieces> pieces_;  // also of helpers that come too late
};

}  // namespace fugato
