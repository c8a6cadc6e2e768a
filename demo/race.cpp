// SPDX-License-Identifier: GPL-3.0-or-later
#include "race.h"

#include <algorithm>
#include <cmath>
#include <cstring>

#include "call_stacks.h"

namespace skerry {

void Wind::rebuild(float dt, int rounds, float gust) {
    const float step = dt / static_cast<float>(rounds);
    for (int round = 0; round < rounds; ++round) {
        phase_ += step;
        for (int y = 0; y < kHigh; ++y) {
            SKERRY_TELL_PLACE();
            for (int x = 0; x < kWide; ++x) {
                const auto cell = [&](int cx, int cy) {
                    return field_[static_cast<size_t>(std::clamp(cy, 0, kHigh - 1) * kWide +
                                                      std::clamp(cx, 0, kWide - 1))];
                };
                const Vec here = cell(x, y), from = cell(x - (here.x > 0 ? 1 : -1), y - (here.y > 0 ? 1 : -1));
                const Vec left = cell(x - 1, y), right = cell(x + 1, y), up = cell(x, y - 1), down = cell(x, y + 1);
                const float carry = 0.08f * step * 60, smooth = 0.02f * step * 60;
                const float push = gust * 0.4f * std::sin(phase_ * 3 + static_cast<float>(x) * 0.3f) * step;
                next_[static_cast<size_t>(y * kWide + x)] = {
                    here.x + carry * (from.x - here.x) + smooth * (left.x + right.x + up.x + down.x - 4 * here.x) +
                        push,
                    here.y + carry * (from.y - here.y) + smooth * (left.y + right.y + up.y + down.y - 4 * here.y)};
            }
        }
        field_.swap(next_);
    }
}

Vec Wind::at(float x, float y) const {
    const int cx = std::clamp(static_cast<int>(x), 0, kWide - 1), cy = std::clamp(static_cast<int>(y), 0, kHigh - 1);
    return field_[static_cast<size_t>(cy * kWide + cx)];
}

float waveHeight(float x, float y, float time) {
    SKERRY_TELL_PLACE();
    float height = 0;
    for (int i = 1; i <= 6; ++i) {
        const auto k = static_cast<float>(i);
        height += std::sin(x * 0.31f * k + y * 0.17f * k - time * std::sqrt(9.81f * 0.3f * k)) / (k * k);
    }
    return height;
}

Sail::Sail() {
    for (int y = 0; y < kSide; ++y)
        for (int x = 0; x < kSide; ++x)
            knots_[static_cast<size_t>(y * kSide + x)] = {
                static_cast<float>(x) * 0.3f, static_cast<float>(y) * 0.4f, 0, 0, 0, 0};
}

float Sail::step(Vec wind, float dt, int rounds) {
    const float h = std::min(dt / static_cast<float>(rounds), 0.004f);
    float drive = 0;
    for (int round = 0; round < rounds; ++round) {
        for (int y = 0; y < kSide; ++y) {
            SKERRY_TELL_PLACE();
            for (int x = 1; x < kSide; ++x) {
                Knot& knot = knots_[static_cast<size_t>(y * kSide + x)];
                float fx = wind.x * 0.2f, fy = -0.5f, fz = wind.y * 0.4f + wind.x * 0.1f;
                const auto spring = [&](int ox, int oy, float rest) {
                    const int nx = x + ox, ny = y + oy;
                    if (nx < 0 || ny < 0 || nx >= kSide || ny >= kSide) return;
                    const Knot& other = knots_[static_cast<size_t>(ny * kSide + nx)];
                    const float dx = other.x - knot.x, dy = other.y - knot.y, dz = other.z - knot.z;
                    const float length = std::sqrt(dx * dx + dy * dy + dz * dz) + 1e-6f,
                                pull = 60 * (length - rest) / length;
                    fx += dx * pull;
                    fy += dy * pull;
                    fz += dz * pull;
                };
                spring(-1, 0, 0.3f);
                spring(1, 0, 0.3f);
                spring(0, -1, 0.4f);
                spring(0, 1, 0.4f);
                knot.vx = (knot.vx + fx * h) * 0.97f;
                knot.vy = (knot.vy + fy * h) * 0.97f;
                knot.vz = (knot.vz + fz * h) * 0.97f;
                knot.x += knot.vx * h;
                knot.y += knot.vy * h;
                knot.z += knot.vz * h;
                drive += std::abs(knot.z);
            }
        }
    }
    return drive / static_cast<float>(rounds * kSide * kSide);
}

Race::Race(uint64_t seed) : random_(static_cast<unsigned>(seed * 2654435761u + 12345)) {
    boats.resize(kBoats);
    for (int i = 0; i < kBoats; ++i) {
        boats[static_cast<size_t>(i)].x = 4 + uniform() * 6;
        boats[static_cast<size_t>(i)].y = 4 + static_cast<float>(i) * 2;
    }
    gulls_.resize(kGulls);
    for (Gull& gull : gulls_)
        gull = {uniform() * Wind::kWide, uniform() * Wind::kHigh, uniform() - 0.5f, uniform() - 0.5f};
    faces_.resize(kSpectators);
}

float Race::uniform() { return static_cast<float>(random_()) / static_cast<float>(std::minstd_rand::max()); }

Vec Race::markAt(int leg) const {
    const float turn = static_cast<float>(leg % kMarks) * 6.2831853f / kMarks;
    return {Wind::kWide * (0.5f + 0.4f * std::cos(turn)), Wind::kHigh * (0.5f + 0.4f * std::sin(turn))};
}

void Race::hulls(float dt, int rounds) {
    const float step = dt / static_cast<float>(rounds);
    for (int round = 0; round < rounds; ++round) {
        time_ += step;
        for (Boat& boat : boats) {
            const Vec mark = markAt(boat.leg);
            const float want = std::atan2(mark.y - boat.y, mark.x - boat.x);
            boat.heading += 0.8f * step * std::remainder(want - boat.heading, 6.2831853f);
            float lift = 0;
            for (int i = 0; i < 8; ++i)
                lift +=
                    waveHeight(boat.x + 0.2f * static_cast<float>(i), boat.y, time_) * (static_cast<float>(i) - 3.5f);
            boat.pitch += step * (lift * 0.1f - boat.pitch);
            boat.speed += step * (0.5f + boat.drive * 2 - boat.speed * 0.6f);
            boat.x += step * boat.speed * std::cos(boat.heading);
            boat.y += step * boat.speed * std::sin(boat.heading);
            if (std::hypot(mark.x - boat.x, mark.y - boat.y) < 1.5f) ++boat.leg;
        }
    }
}

void Race::beginSails() {
    for (size_t i = 0; i < boats.size(); ++i) sailWind_[i] = wind.at(boats[i].x, boats[i].y);
}

void Race::cloth(int firstBoat, int lastBoat, float dt, int rounds) {
    for (int i = firstBoat; i < lastBoat; ++i) {
        const auto at = static_cast<size_t>(i);
        sailDrive_[at] = boats[at].sail.step(sailWind_[at], dt, rounds);
    }
}

void Race::endSails() {
    for (size_t i = 0; i < boats.size(); ++i) boats[i].drive = sailDrive_[i];
}

int Race::collisions(int rounds) {
    int touching = 0;
    for (int round = 0; round < rounds; ++round) {
        touching = 0;
        for (size_t a = 0; a < boats.size(); ++a) {
            SKERRY_TELL_PLACE();
            for (size_t b = a + 1; b < boats.size(); ++b)
                touching += std::hypot(boats[a].x - boats[b].x, boats[a].y - boats[b].y) < 1.2f;
        }
    }
    return touching;
}

void Race::flock(float dt, int rounds) {
    const float step = dt / static_cast<float>(rounds);
    for (int round = 0; round < rounds; ++round) {
        for (Gull& gull : gulls_) {
            SKERRY_TELL_PLACE();
            float cx = 0, cy = 0, ax = 0, ay = 0;
            for (const Gull& other : gulls_) {
                const float dx = other.x - gull.x, dy = other.y - gull.y, d2 = dx * dx + dy * dy + 0.01f;
                cx += dx;
                cy += dy;
                ax -= dx / d2;
                ay -= dy / d2;
            }
            gull.vx += step * (0.01f * cx + 0.2f * ax);
            gull.vy += step * (0.01f * cy + 0.2f * ay);
            const float speed = std::hypot(gull.vx, gull.vy) + 1e-3f, most = std::min(speed, 4.0f) / speed;
            gull.x += (gull.vx *= most) * step;
            gull.y += (gull.vy *= most) * step;
        }
    }
}

float Race::planPath(int gull, int rounds) {
    // Over the windy grid to the leading boat: relax the cheapest way until nothing improves much.
    static thread_local std::vector<float> cost;
    const auto& from = gulls_[static_cast<size_t>(gull % kGulls)];
    float found = 0;
    for (int round = 0; round < rounds; ++round) {
        cost.assign(Wind::kWide * Wind::kHigh, 1e6f);
        const int sx = std::clamp(static_cast<int>(from.x), 0, Wind::kWide - 1),
                  sy = std::clamp(static_cast<int>(from.y), 0, Wind::kHigh - 1);
        cost[static_cast<size_t>(sy * Wind::kWide + sx)] = 0;
        for (int sweep = 0; sweep < 2; ++sweep)
            for (int y = 1; y < Wind::kHigh - 1; ++y) {
                SKERRY_TELL_PLACE();
                for (int x = 1; x < Wind::kWide - 1; ++x) {
                    float& here = cost[static_cast<size_t>(y * Wind::kWide + x)];
                    for (const int o : {-1, 1, -Wind::kWide, Wind::kWide})
                        here = std::min(here, cost[static_cast<size_t>(y * Wind::kWide + x + o)] + 1);
                }
            }
        found = cost[static_cast<size_t>((Wind::kHigh / 2) * Wind::kWide + Wind::kWide / 2)];
    }
    return found;
}

void Race::crowd(int rounds) {
    for (int round = 0; round < rounds; ++round)
        for (size_t i = 0; i < faces_.size(); ++i) {
            if (i % 40 == 0) SKERRY_TELL_PLACE();
            const float sx = static_cast<float>(i % 40), sy = i < 80 ? 0.0f : static_cast<float>(Wind::kHigh);
            faces_[i] += 0.2f * (std::atan2(boats[0].y - sy, boats[0].x - sx) - faces_[i]);
        }
}

int Race::cull(size_t drops, int rounds) const {
    int seen = 0;
    for (int round = 0; round < rounds; ++round) {
        SKERRY_TELL_PLACE();
        seen = static_cast<int>(drops);
        for (const Boat& boat : boats) seen += std::abs(boat.x - 24) < 22 && std::abs(boat.y - 16) < 15;
        for (const Gull& gull : gulls_) seen += gull.x > 0 && gull.y > 0;
    }
    return seen;
}

std::vector<Vec> Race::bows() const {
    std::vector<Vec> out;
    for (const Boat& boat : boats)
        if (boat.speed > 0.5f) out.push_back({boat.x, boat.y});
    return out;
}

std::vector<float> Race::standings() const {
    std::vector<float> out;
    for (const Boat& boat : boats) out.push_back(static_cast<float>(boat.leg) * 100 + std::hypot(boat.x, boat.y));
    return out;
}

float rank(const std::vector<float>& standings, int rounds) {
    std::vector<float> table(standings.size() * Race::kMarks);
    for (int round = 0; round < rounds; ++round) {
        SKERRY_TELL_PLACE();
        for (size_t i = 0; i < table.size(); ++i)
            table[i] = standings[i / Race::kMarks] + static_cast<float>(i % Race::kMarks);
        SKERRY_TELL_PLACE();
        std::sort(table.begin(), table.end());
    }
    return table.empty() ? 0 : table.back();
}

void Spray::step(const std::vector<Vec>& bows, float dt, int rounds) {
    const auto uniform = [&] { return static_cast<float>(random_()) / static_cast<float>(std::minstd_rand::max()); };
    for (const Vec& bow : bows)
        if (drops_.size() < 2000)
            drops_.push_back({bow.x, bow.y, 0.2f, uniform() - 0.5f, uniform() - 0.5f, 1 + uniform()});
    const float h = dt / static_cast<float>(rounds);
    for (int round = 0; round < rounds; ++round)
        for (Drop& drop : drops_) {
            drop.vz -= 9.81f * h;
            drop.x += drop.vx * h;
            drop.y += drop.vy * h;
            drop.z += drop.vz * h;
        }
    drops_.erase(std::remove_if(drops_.begin(), drops_.end(), [](const Drop& d) { return d.z < 0; }), drops_.end());
}

std::vector<uint8_t> Race::snapshot() const {
    std::vector<uint8_t> bytes;
    for (const Boat& boat : boats) {
        const float state[] = {boat.x, boat.y, boat.heading, boat.speed, boat.pitch};
        const auto* from = reinterpret_cast<const uint8_t*>(state);
        bytes.insert(bytes.end(), from, from + sizeof state);
    }
    return bytes;
}

float mixSound(std::vector<float>& samples, float time, int rounds) {
    float loudest = 0;
    for (int round = 0; round < rounds; ++round)
        for (size_t i = 0; i < samples.size(); ++i) {
            if (i % 64 == 0) SKERRY_TELL_PLACE();
            const float t = time + static_cast<float>(i) / 48000;
            samples[i] = 0.4f * std::sin(t * 340) + 0.3f * std::sin(t * 512.5f) * std::sin(t * 2.1f);
            loudest = std::max(loudest, std::abs(samples[i]));
        }
    return loudest;
}

}  // namespace skerry
