#pragma once

#include "shot/shot.h"

#include <atomic>
#include <cstdint>
#include <string>
#include <vector>

namespace pinion {

/// The versions of a shot with the names of the edits between them. Versions share what did not change.
class History {
public:
    static constexpr std::size_t kDepth = 200;

    explicit History(Shot shot = {}) : versions_{{"", std::move(shot), nextStamp()}} {}

    const Shot& current() const { return versions_[place_].shot; }

    /// Names the present version: no other one, of any history, has the same, and going back to a version brings its
    /// stamp back.
    std::uint64_t stamp() const { return versions_[place_].stamp; }

    /// Records the shot after an edit, named for the menu ("Set 12 tracks aside"). What could be redone is dropped.
    void record(const std::string& name, Shot shot) {
        versions_.resize(place_ + 1);
        versions_.push_back({name, std::move(shot), nextStamp()});
        if (versions_.size() > kDepth) versions_.erase(versions_.begin());
        place_ = versions_.size() - 1;
    }

    /// Replaces the present version without a step of its own, as for a value that is still being dragged.
    void amend(Shot shot) {
        versions_[place_].shot = std::move(shot);
        versions_[place_].stamp = nextStamp();
    }

    bool canUndo() const { return place_ > 0; }
    bool canRedo() const { return place_ + 1 < versions_.size(); }
    std::string undoName() const { return canUndo() ? versions_[place_].name : ""; }
    std::string redoName() const { return canRedo() ? versions_[place_ + 1].name : ""; }
    void undo() {
        if (canUndo()) --place_;
    }
    void redo() {
        if (canRedo()) ++place_;
    }

private:
    /// Also unlike those of other histories: a save may end when another shot is open already.
    static std::uint64_t nextStamp() {
        static std::atomic<std::uint64_t> last{0};
        return ++last;
    }
    struct Version {
        std::string name;  ///< of the edit that led here
        Shot shot;
        std::uint64_t stamp;
    };
    std::vector<Version> versions_;
    std::size_t place_ = 0;
};

}  // namespace pinion
