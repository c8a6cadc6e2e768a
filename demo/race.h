// SPDX-License-Identifier: GPL-3.0-or-later
//
// The race itself: wind, waves, boats with sails of cloth, gulls, spray, crowd, the race table. Each
// step function advances the world by `dt` seconds in `rounds` smaller steps and is called by one
// thread at a time unless it says otherwise. No clocks, no threads, no recording in here.
#pragma once

#include <array>
#include <cstdint>
#include <random>
#include <string>
#include <vector>

namespace skerry {

struct Vec {
    float x = 0, y = 0;
};

/// Wind over the water: speed and direction on a grid, carried along and smoothed by itself.
class Wind {
public:
    static constexpr int kWide = 48, kHigh = 32;
    void rebuild(float dt, int rounds, float gust);
    Vec at(float x, float y) const;

private:
    std::vector<Vec> field_ = std::vector<Vec>(kWide * kHigh, Vec{5, 1});
    std::vector<Vec> next_ = field_;
    float phase_ = 0;
};

/// Height of the water: a sum of travelling waves.
float waveHeight(float x, float y, float time);

/// A sail: a net of masses and springs held at the mast, blown by the wind.
class Sail {
public:
    static constexpr int kSide = 10;
    Sail();
    float step(Vec wind, float dt, int rounds);  // returns the drive it gives

private:
    struct Knot {
        float x, y, z, vx, vy, vz;
    };
    std::array<Knot, kSide * kSide> knots_;
};

struct Boat {
    float x = 0, y = 0, heading = 0, speed = 0, pitch = 0, drive = 0;
    int leg = 0;
    Sail sail;
};

class Race {
public:
    static constexpr int kBoats = 12, kGulls = 40, kSpectators = 160, kMarks = 6;
    explicit Race(uint64_t seed);

    Wind wind;
    std::vector<Boat> boats;

    void hulls(float dt, int rounds);
    /// The sails work on other threads, between these two: on the wind as it was, disjoint ranges at once.
    void beginSails();
    void cloth(int firstBoat, int lastBoat, float dt, int rounds);
    void endSails();
    int collisions(int rounds);  // boats that touch
    void flock(float dt, int rounds);
    float planPath(int gull, int rounds);  // length of the way found
    void crowd(int rounds);
    int cull(size_t drops, int rounds) const;  // things in sight
    std::vector<Vec> bows() const;             // of boats quick enough to throw spray
    std::vector<float> standings() const;      // of every boat, for rank()
    std::vector<uint8_t> snapshot() const;     // for the replay

private:
    struct Gull {
        float x, y, vx, vy;
    };
    Vec markAt(int leg) const;
    std::minstd_rand random_;
    std::vector<Gull> gulls_;
    std::vector<float> faces_;
    std::array<Vec, kBoats> sailWind_{};
    std::array<float, kBoats> sailDrive_{};
    float time_ = 0;
    float uniform();
};

/// The race table: every leg of every boat in order. Returns the last one's time.
float rank(const std::vector<float>& standings, int rounds);

/// Drops thrown up by the bows, falling back. Belongs to one thread.
class Spray {
public:
    explicit Spray(uint64_t seed) : random_(static_cast<unsigned>(seed + 77)) {}
    void step(const std::vector<Vec>& bows, float dt, int rounds);
    size_t drops() const { return drops_.size(); }

private:
    struct Drop {
        float x, y, z, vx, vy, vz;
    };
    std::minstd_rand random_;
    std::vector<Drop> drops_;
};

/// One buffer of sound: wind, water and sheets flapping. Returns its loudest sample.
float mixSound(std::vector<float>& samples, float time, int rounds);

}  // namespace skerry
