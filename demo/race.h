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
    void cloth(int firstBoat, int lastBoat, float dt, int rounds);  // disjoint ranges may run at once
    int collisions(int rounds);                                     // boats that touch
    void flock(float dt, int rounds);
    float planPath(int gull, int rounds);  // length of the way found
    void spray(float dt, int rounds);
    void crowd(int rounds);
    int cull(int rounds) const;             // things in sight
    float rank(int rounds);                 // the race table
    std::vector<uint8_t> snapshot() const;  // for the replay
    size_t particles() const { return spray_.size(); }

private:
    struct Gull {
        float x, y, vx, vy;
    };
    struct Drop {
        float x, y, z, vx, vy, vz, age;
    };
    Vec markAt(int leg) const;
    std::minstd_rand random_;
    std::vector<Gull> gulls_;
    std::vector<Drop> spray_;
    std::vector<float> faces_, table_;
    float time_ = 0;
    float uniform();
};

/// One buffer of sound: wind, water and sheets flapping. Returns its loudest sample.
float mixSound(std::vector<float>& samples, float time, int rounds);

}  // namespace skerry
