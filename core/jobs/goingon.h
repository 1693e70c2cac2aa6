#pragma once

#include "base/expected.h"
#include "base/framerange.h"

#include <cstdint>
#include <filesystem>
#include <vector>

namespace pinion {

/// A sequence that was stopped, or ran out of disk, goes on where it ended as long as it is still the same: a file
/// beside it says what it is of while it is not whole. Of a video there is nothing to go on with.
class GoingOn {
public:
    /// `key`: of all that the pictures depend on.
    GoingOn(const std::filesystem::path& pattern, std::uint64_t key, const FrameRange& range);

    const std::vector<int>& open() const { return open_; }  ///< frames that are to be made
    int kept() const { return kept_; }                      ///< that an earlier run has written
    /// Before the first frame is written. Fails where the folder cannot be.
    Expected<void> begin() const;
    /// What went wrong, with what that means for what was written.
    Error failed(const Error& error) const;
    /// All are written.
    void finish() const;

private:
    std::filesystem::path pattern_, mark_;
    std::uint64_t key_;
    std::vector<int> open_;
    int kept_ = 0;
    bool isSequence_ = false;
};

}  // namespace pinion
