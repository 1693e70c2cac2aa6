#pragma once

#include "base/expected.h"
#include "session/livework.h"

#include <exception>
#include <functional>
#include <memory>
#include <optional>

namespace pinion {

/// Something worked out from the shot for display, beside the interface. `want` says by its key what it depends on; a
/// new key stops what runs, and the latest wins. While one is pending the value before stays.
template <class Value, class Key>
class Derived {
public:
    /// `changed` is called on the interface's thread when value, problem or pending have changed.
    Derived(JobRunner& jobs, std::function<void()> changed) : work_(jobs), changed_(std::move(changed)) {}

    /// `make` runs in a thread, on copies.
    void want(const Key& key, std::function<Expected<Value>(const Progress&)> make) {
        if (key_ && *key_ == key) return;
        key_ = key;
        pending_ = true;
        work_.start([this, make = std::move(make)](const Progress& progress) -> std::function<void()> {
            auto made = std::make_shared<Expected<Value>>(tried(make, progress));
            // Only reached while this stands: the work is cancelled with it.
            return [this, made] { take(std::move(*made)); };
        });
        changed_();
    }
    /// Nothing is wanted any more.
    void clear() {
        const bool had = key_ || value_;
        work_.cancel();
        key_.reset();
        value_.reset();
        problem_.clear();
        pending_ = false;
        if (had) changed_();
    }
    /// What was made is old though its key is the same: made anew at the next `want`.
    void forget() { key_.reset(); }

    const std::shared_ptr<const Value>& value() const { return value_; }
    const std::optional<Key>& key() const { return key_; }
    bool isPending() const { return pending_; }
    const QString& problem() const { return problem_; }

private:
    static Expected<Value> tried(const std::function<Expected<Value>(const Progress&)>& make,
                                 const Progress& progress) {
        try {
            return make(progress);
        } catch (const std::exception& error) {
            return failure(Fault::system, "this could not be worked out: {}", error.what());
        }
    }
    void take(Expected<Value> made) {
        pending_ = false;
        value_ = made ? std::make_shared<const Value>(std::move(*made)) : nullptr;
        problem_ = made ? QString() : text(made.error().message);
        changed_();
    }

    LiveWork work_;
    std::function<void()> changed_;
    std::optional<Key> key_;
    std::shared_ptr<const Value> value_;
    QString problem_;
    bool pending_ = false;
};

}  // namespace pinion
