// SPDX-License-Identifier: GPL-3.0-or-later
#include "gathering.h"

#include <algorithm>
#include <functional>
#include <numeric>
#include <set>
#include <tuple>

namespace fugato {

namespace {

std::string letterOf(size_t index) {
    std::string letters;
    for (size_t i = index + 1; i > 0; i = (i - 1) / 26)
        letters.insert(letters.begin(), static_cast<char>('A' + (i - 1) % 26));
    return letters;
}

}  // namespace

bool GatheredCauses::goesOnWith(const std::vector<NamedFunction>& named) const {
    return named.size() >= named_.size() && std::equal(named_.begin(), named_.end(), named.begin());
}

void GatheredCauses::addUpTo(Explanation& e, uint32_t upTo, const FoundCauses& found,
                             const std::vector<NamedFunction>& named) {
    for (; late_ < e.late.size() && e.late[late_] < upTo; ++late_) {
        addFrame(e, e.late[late_], found.of(late_), named.data() + found.from[late_]);
        addToSpikes(e, e.late[late_]);
    }
    upTo_ = upTo;
    named_.assign(named.begin(), named.begin() + static_cast<std::ptrdiff_t>(shares_.size()));
}

/// Shares the overrun of a frame out to its causes, in proportion to their excess.
void GatheredCauses::addFrame(Explanation& e, uint32_t frame, std::span<const FoundCause> causes,
                              const NamedFunction* named) {
    const FrameVerdict& verdict = e.frames[frame];
    const auto from = static_cast<uint32_t>(shares_.size()), count = static_cast<uint32_t>(causes.size());
    shares_.resize(from + count);
    CauseShare* const shares = shares_.data() + from;
    double covered = 0;
    for (const FoundCause& cause : causes) covered += static_cast<double>(cause.excess);
    int64_t given = 0;
    for (size_t k = 0; k < causes.size(); ++k) {
        const int64_t part = k + 1 == causes.size()
                                 ? verdict.overrun - given
                                 : static_cast<int64_t>(static_cast<double>(verdict.overrun) *
                                                        static_cast<double>(causes[k].excess) / covered);
        given += part;
        size_t at = k;
        for (; at > 0 && shares[at - 1].excess < causes[k].excess; --at) shares[at] = shares[at - 1];
        shares[at] = {add(frame, verdict.startUp, causes[k], named[k], part), causes[k].excess, part};
    }
    ++bound_[{verdict.bound, verdict.boundGroup}];
    if (verdict.sharesFrom == from && verdict.sharesCount == count) return;  // one known before
    FrameVerdict& changed = e.frames.change(frame);
    changed.sharesFrom = from;
    changed.sharesCount = count;
}

/// Late frames in a row are one spike.
void GatheredCauses::addToSpikes(Explanation& e, uint32_t frame) {
    if (spikes_.empty() || frame > spikes_.back().last + 1) {
        endSpike(e);
        spikes_.push_back({});
        spikes_.back().first = frame;
        lastSpike_.clear();
    }
    Spike& spike = spikes_.back();
    spike.last = frame;
    spike.late += e.frames[frame].overrun;
    for (const CauseShare& share : sharesOf(e.frames[frame])) {
        auto of = std::find_if(lastSpike_.begin(), lastSpike_.end(), [&](auto& by) { return by.first == share.cause; });
        if (of == lastSpike_.end()) of = lastSpike_.insert(of, {share.cause, 0});
        of->second += share.late;
    }
    const auto number = static_cast<uint32_t>(spikes_.size() - 1);
    if (e.frames[frame].spike != number) e.frames.change(frame).spike = number;
}

/// Sets the last spike's main cause, the one with the most time late (on a tie the one found first), and its origin,
/// the earliest of the origins of the frames where that cause comes first.
void GatheredCauses::endSpike(const Explanation& e) {
    if (spikes_.empty()) return;
    Spike& spike = spikes_.back();
    spike.cause = std::max_element(lastSpike_.begin(), lastSpike_.end(), [](auto& a, auto& b) {
                      return a.second < b.second;
                  })->first;
    spike.origin = kNone;
    for (uint32_t f = spike.first; f <= spike.last; ++f)
        if (sharesOf(e.frames[f]).front().cause == spike.cause)
            spike.origin = std::min(spike.origin, e.frames[f].origin);
    if (spike.origin == kNone) spike.origin = spike.first;
}

/// What most of the late frames are bound by.
void GatheredCauses::tellBound(Explanation& e) const {
    for (const auto& [by, count] : bound_)
        if (count > e.figures.bound) {
            e.figures.bound = count;
            std::tie(e.figures.boundBy, e.figures.boundGroup) = by;
        }
}

uint32_t GatheredCauses::add(uint32_t frame, bool startUp, const FoundCause& found, const NamedFunction& named,
                             int64_t late) {
    CauseKey key = keyOf(found);
    key.startUp = startUp;
    if (found.kind == CauseKind::Unexplained || found.outside) {  // else its marker says what it is
        key.function = named.function;
        key.caller = named.caller;
    }
    const auto [at, isNew] = indexOf_.try_emplace(key, static_cast<uint32_t>(causes_.size()));
    if (isNew) {
        causes_.push_back({});
        sums_.push_back({});
    }
    Cause& cause = causes_[at->second];
    Sum& sum = sums_[at->second];
    cause.key = key;
    cause.group = found.group;
    cause.path = found.path;
    cause.object = found.object;
    cause.contention = found.contention;
    sum.oneFunction &= isNew || cause.function == named.function;
    cause.function = named.function;
    cause.caller = named.caller;
    const SeenFunction* const seen = found.functions.find(named.function);
    if (seen && !found.functions.blocked) {
        cause.samples += seen->samples;
        cause.ofSamples += found.functions.samples;
    }
    cause.late += late;
    if (cause.frames.empty() || cause.frames.back() != frame) cause.frames.push_back(frame);
    sum.byKind[static_cast<size_t>(found.kind)] += late;
    sum.byPiece[static_cast<size_t>(found.segment)] += found.excess;
    addContention(sum, found, late);
    sum.calls += found.calls;
    sum.usualCalls += found.usualCalls;
    sum.slowdown += found.slowdown;
    return at->second;
}

/// The time late is shared out as the time without a core was.
void GatheredCauses::addContention(Sum& sum, const FoundCause& found, int64_t late) {
    double all = 0;
    for (const ContentionPart& part : found.contentionParts) all += static_cast<double>(part.ns);
    for (const ContentionPart& part : found.contentionParts)
        sum.contentionParts[{part.group, part.holder}] +=
            static_cast<int64_t>(static_cast<double>(late) * static_cast<double>(part.ns) / all);
}

void GatheredCauses::finish(Explanation& e, const Explanation* previous) {
    for (size_t i = 0; i < causes_.size(); ++i) {
        Cause& cause = causes_[i];
        const Sum& sum = sums_[i];
        const auto frames = static_cast<double>(cause.frames.size());
        cause.kind =
            static_cast<CauseKind>(std::max_element(sum.byKind.begin(), sum.byKind.end()) - sum.byKind.begin());
        cause.segment =
            static_cast<SegmentKind>(std::max_element(sum.byPiece.begin(), sum.byPiece.end()) - sum.byPiece.begin());
        for (const auto& [of, ns] : sum.contentionParts) cause.contentionParts.push_back({of.first, of.second, ns});
        if (!cause.contentionParts.empty()) cause.group = byGroup(cause.contentionParts).front().first;
        if (!sum.oneFunction) cause.function = cause.caller = kNone;
        cause.calls = sum.calls / frames;
        cause.usualCalls = sum.usualCalls / frames;
        cause.slowdown = sum.slowdown / frames;
    }
    std::vector<uint32_t> order(causes_.size()), rank(causes_.size());
    std::iota(order.begin(), order.end(), 0u);
    // What is hardly anything of its kind of frames comes last; else start-up after all other frames.
    int64_t late[2] = {0, 0};
    for (const Cause& cause : causes_) late[cause.key.startUp] += cause.late;
    const auto small = [&](const Cause& cause) {
        return static_cast<double>(cause.late) < kListed * static_cast<double>(late[cause.key.startUp]);
    };
    std::stable_sort(order.begin(), order.end(), [&](uint32_t x, uint32_t y) {
        const Cause &a = causes_[x], &b = causes_[y];
        return std::tuple(small(a), a.key.startUp, -a.late) < std::tuple(small(b), b.key.startUp, -b.late);
    });
    e.listed = static_cast<size_t>(std::count_if(causes_.begin(), causes_.end(), std::not_fn(small)));
    std::vector<Cause> sorted;
    for (uint32_t i = 0; i < order.size(); ++i) {
        rank[order[i]] = i;
        sorted.push_back(std::move(causes_[order[i]]));
    }
    e.causes = std::move(sorted);
    giveLetters(e, previous);
    endSpike(e);
    e.shares = std::move(shares_);
    for (CauseShare& share : e.shares) share.cause = rank[share.cause];
    e.spikes = std::move(spikes_);
    for (uint32_t i = 0; i < e.spikes.size(); ++i) {
        e.spikes[i].cause = rank[e.spikes[i].cause];
        e.causes[e.spikes[i].cause].spikes.push_back(i);
    }
    tellBound(e);
}

void GatheredCauses::giveLetters(Explanation& e, const Explanation* previous) {
    std::map<CauseKey, std::string> known;
    std::set<std::string> given;
    const auto withoutFunction = [](CauseKey key) {
        key.function = key.caller = kNone;
        return key;
    };
    if (previous)
        for (const Cause& cause : previous->causes) {
            // Functions of other symbols have other numbers.
            known.try_emplace(previous->symbols == e.symbols ? cause.key : withoutFunction(cause.key), cause.letter);
            given.insert(cause.letter);
        }
    size_t next = 0;
    for (Cause& cause : e.causes) {
        auto had = known.find(cause.key);
        if (had == known.end()) had = known.find(withoutFunction(cause.key));  // its functions were not known yet
        if (had != known.end()) {
            cause.letter = had->second;
            known.erase(had);
            continue;
        }
        do cause.letter = letterOf(next++);
        while (given.count(cause.letter));
    }
}

}  // namespace fugato
