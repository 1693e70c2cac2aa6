#pragma once

#include <bit>
#include <cstdint>

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

}  // namespace pinion
