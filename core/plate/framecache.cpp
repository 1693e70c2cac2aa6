#include "plate/framecache.h"

namespace pinion {

FrameCache::FrameCache(std::shared_ptr<const Plate> plate, std::size_t budgetBytes)
    : plate_(std::move(plate)), budget_(budgetBytes), reader_([this] { runReader(); }) {}

FrameCache::~FrameCache() {
    {
        const std::lock_guard lock(mutex_);
        ending_ = true;
    }
    wake_.notify_all();
    reader_.join();
}

Expected<PicturePtr> FrameCache::get(int frame) {
    if (auto picture = peek(frame)) return picture;
    auto picture = plate_->read(frame);
    if (picture) keep(frame, *picture);
    return picture;
}

PicturePtr FrameCache::peek(int frame) {
    const std::lock_guard lock(mutex_);
    const auto entry = entries_.find(frame);
    if (entry == entries_.end()) return nullptr;
    byAge_.splice(byAge_.begin(), byAge_, entry->second.age);
    return entry->second.picture;
}

void FrameCache::want(std::vector<int> frames) {
    {
        const std::lock_guard lock(mutex_);
        wanted_.clear();
        for (const int frame : frames) wanted_.push_back({frame, !entries_.contains(frame)});
    }
    wake_.notify_all();
}

void FrameCache::setListener(Listener listener) {
    const std::lock_guard lock(mutex_);
    listener_ = std::move(listener);
}

std::size_t FrameCache::usedBytes() const {
    const std::lock_guard lock(mutex_);
    return used_;
}

std::size_t FrameCache::frameBytes() const {
    const std::lock_guard lock(mutex_);
    if (!entries_.empty()) return std::max<std::size_t>(1, used_ / entries_.size());
    return std::max<std::size_t>(1, std::size_t(facts().width) * std::size_t(facts().height) * 3);
}

std::vector<int> FrameCache::framesHeld() const {
    const std::lock_guard lock(mutex_);
    return {byAge_.begin(), byAge_.end()};
}

void FrameCache::keep(int frame, const PicturePtr& picture) {
    const std::lock_guard lock(mutex_);
    if (entries_.contains(frame)) return;
    used_ += picture->sizeBytes();
    byAge_.push_front(frame);
    entries_[frame] = {picture, byAge_.begin()};
    dropOldest();
}

void FrameCache::setBudget(std::size_t bytes) {
    const std::lock_guard lock(mutex_);
    budget_ = bytes;
    dropOldest();
}

void FrameCache::dropOldest() {
    // The newest frame stays even when it alone is over the budget: someone is about to show it.
    while (used_ > budget_ && byAge_.size() > 1) {
        const auto oldest = entries_.find(byAge_.back());
        used_ -= oldest->second.picture->sizeBytes();
        entries_.erase(oldest);
        byAge_.pop_back();
    }
}

void FrameCache::runReader() {
    std::unique_lock lock(mutex_);
    while (true) {
        wake_.wait(lock, [this] { return ending_ || !wanted_.empty(); });
        if (ending_) return;
        const Wanted next = wanted_.front();
        wanted_.pop_front();
        Expected<PicturePtr> picture = PicturePtr();
        if (entries_.contains(next.frame)) {
            // A job may have read it meanwhile, and whoever wants it still waits.
            if (!next.isMissing) continue;
        } else {
            lock.unlock();
            picture = plate_->read(next.frame);
            if (picture) keep(next.frame, *picture);
            lock.lock();
        }
        if (listener_ && !ending_) {
            const Listener listener = listener_;
            lock.unlock();
            listener(next.frame, picture ? nullptr : &picture.error());
            lock.lock();
        }
    }
}

}  // namespace pinion
