#pragma once

#include "plate/plate.h"

#include <atomic>
#include <condition_variable>
#include <cstdint>
#include <deque>
#include <functional>
#include <list>
#include <memory>
#include <mutex>
#include <thread>
#include <unordered_map>
#include <vector>

namespace pinion {

/// Serves a plate's frames from memory, within a budget, the least lately used going first. Safe to use from several
/// threads.
class FrameCache {
public:
    static constexpr std::size_t kDefaultBudget = std::size_t(2) << 30;

    explicit FrameCache(std::shared_ptr<const Plate> plate, std::size_t budgetBytes = kDefaultBudget);
    ~FrameCache();
    FrameCache(const FrameCache&) = delete;
    FrameCache& operator=(const FrameCache&) = delete;

    const Plate& plate() const { return *plate_; }
    const PlateFacts& facts() const { return plate_->facts(); }

    /// The frame, read here and now if need be. For jobs; an interface uses `peek` and `want`.
    Expected<PicturePtr> get(int frame);

    /// The frame if it is in memory. Never waits for a disk.
    PicturePtr peek(int frame);

    /// What the reader thread should bring next, most urgent first; replaces what was wanted before.
    void want(std::vector<int> frames);

    /// Called from the reader thread for each wanted frame that was not in memory when it was wanted: it is now,
    /// whoever read it, or `error` says why not.
    using Listener = std::function<void(int frame, const Error* error)>;
    void setListener(Listener listener);

    std::size_t budget() const { return budget_; }
    /// Drops what is beyond it at once.
    void setBudget(std::size_t bytes);
    std::size_t usedBytes() const;

    /// What a frame takes, as those in memory do; 8 bits a channel while there is none.
    std::size_t frameBytes() const;
    std::vector<int> framesHeld() const;

private:
    struct Entry {
        PicturePtr picture;
        std::list<int>::iterator age;
    };
    void keep(int frame, const PicturePtr& picture);
    void dropOldest();  ///< with the lock held
    void runReader();

    std::shared_ptr<const Plate> plate_;
    std::atomic<std::size_t> budget_;
    mutable std::mutex mutex_;
    std::condition_variable wake_;
    std::unordered_map<int, Entry> entries_;
    std::list<int> byAge_;  ///< the latest used first
    std::size_t used_ = 0;
    struct Wanted {
        int frame;
        bool isMissing;  ///< it was when it was wanted
    };
    std::deque<Wanted> wanted_;
    Listener listener_;
    bool ending_ = false;
    std::thread reader_;
};

}  // namespace pinion
