// SPDX-License-Identifier: GPL-3.0-or-later
#include "earlier_stage.h"

#include <algorithm>

namespace fugato {

namespace {

constexpr uint32_t kMostLooked = 16;  // frames of one series

bool belongsTo(const Recording& r, const Piece& piece, const Cause& cause) {
    if (cause.kind == CauseKind::NoCore) return piece.kind == PieceKind::NoCore && piece.coreHolder == cause.coreHolder;
    if (cause.object != kNone) return piece.lock.object == cause.object;
    return r.lanes[piece.lane].group == cause.group && r.paths.contains(cause.path, piece.path);
}

/// How much of `pieces` lies at the same time on the same lane as one of `others`. Each follow one another backwards
/// and do not overlap.
int64_t shared(const std::vector<Piece>& pieces, std::span<const Piece> others) {
    int64_t sum = 0;
    size_t first = 0;  // of the others: those before it begin after the piece
    for (const Piece& a : pieces) {
        while (first < others.size() && others[first].begin >= a.end) ++first;
        for (size_t i = first; i < others.size() && others[i].end > a.begin; ++i)
            if (others[i].lane == a.lane) sum += std::min(a.end, others[i].end) - std::max(a.begin, others[i].begin);
    }
    return sum;
}

}  // namespace

std::vector<EarlierStage> earlierStages(const Explanation& e, uint32_t frame, std::span<const Piece> ofFrame) {
    std::vector<EarlierStage> out;
    const Recording& r = *e.recording;
    const auto& shares = e.frames[frame].shares;
    if (shares.empty()) return out;
    const Cause& cause = e.causes[shares.front().cause];
    const Frame& f = e.frame(frame);
    Accountant accountant(r);
    std::vector<Piece> ofCause;
    int64_t time = 0, begin = f.end;
    for (const Piece& piece : ofFrame) {
        if (!belongsTo(r, piece, cause)) continue;
        ofCause.push_back(piece);
        time += piece.duration();
        begin = std::min(begin, piece.begin);
    }
    for (uint32_t s = 0; s < r.series.size() && time > 0; ++s) {
        const Column<Frame>& frames = r.series[s].frames;
        if (s == e.series || frames.empty()) continue;
        uint32_t at = r.series[s].frameAt(begin);
        if (at == kNone) at = 0;
        for (const uint32_t to = at + kMostLooked; at < std::min<size_t>(to, frames.size()); ++at) {
            const Frame& other = frames[at];
            if (other.begin >= f.end) break;
            const int64_t deadline = other.deadline ? other.deadline : kDefaultBudgetNs;
            if (other.end >= f.end || other.duration() <= deadline) continue;
            const auto pieces = accountant.account(other.lane, other.begin, other.end);
            int64_t pacing = 0;
            for (const Piece& piece : pieces)
                if (piece.kind == PieceKind::WaitPacing) pacing += piece.duration();
            if (heldToTick(other.duration(), pacing, deadline) || 2 * shared(ofCause, pieces) < time) continue;
            out.push_back({s, at, other.duration() - deadline});
        }
    }
    std::stable_sort(out.begin(), out.end(), [&](const EarlierStage& x, const EarlierStage& y) {
        return r.series[x.series].frames[x.frame].end < r.series[y.series].frames[y.frame].end;
    });
    return out;
}

}  // namespace fugato
