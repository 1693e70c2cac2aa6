#pragma once

#include "lens/lens.h"
#include "track/track.h"

#include <bit>
#include <cstdint>
#include <string>

namespace pinion {

/// FNV-1a over the values that a result depends on: when it differs, the result is stale.
class Fingerprint {
public:
    Fingerprint& add(std::uint64_t value) {
        for (int i = 0; i < 8; ++i) {
            state_ ^= (value >> (8 * i)) & 0xFF;
            state_ *= 1099511628211ULL;
        }
        return *this;
    }
    Fingerprint& add(double value) { return add(std::bit_cast<std::uint64_t>(value)); }
    Fingerprint& add(int value) { return add(std::uint64_t(std::int64_t(value))); }
    /// Never 0, which stands for "never done".
    std::uint64_t value() const { return state_ == 0 ? 1 : state_; }

private:
    std::uint64_t state_ = 14695981039346656037ULL;
};

/// Of the samples and ids; what is set aside counts only where it is asked for.
void addTracks(Fingerprint& print, const List<Track>& tracks, bool withSetAside);
void addText(Fingerprint& print, const std::string& text);
void addLens(Fingerprint& print, const Lens& lens);

}  // namespace pinion
