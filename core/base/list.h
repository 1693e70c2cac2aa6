#pragma once

#include <functional>
#include <memory>
#include <mutex>
#include <typeindex>
#include <utility>
#include <vector>

namespace pinion {

/// An immutable sequence, shared between the versions of a shot. Copying costs a pointer; `edited` makes a new one.
template <class T>
class List {
public:
    List() : storage_(empty()) {}
    List(std::vector<T> items) : storage_(std::make_shared<const Storage>(std::move(items))) {}  // NOLINT: a value

    std::size_t size() const { return vector().size(); }
    bool isEmpty() const { return vector().empty(); }
    const T& operator[](std::size_t index) const { return vector()[index]; }
    const T& back() const { return vector().back(); }
    const T& front() const { return vector().front(); }
    auto begin() const { return vector().begin(); }
    auto end() const { return vector().end(); }
    const std::vector<T>& vector() const { return storage_->items; }

    /// Whether both are the same version: cheap, and enough to know that nothing has to be redrawn.
    bool sharedWith(const List& other) const { return storage_ == other.storage_; }

    /// A new list: this one after `edit` has changed it.
    template <class Edit>
    List edited(Edit&& edit) const {
        std::vector<T> items = vector();
        std::forward<Edit>(edit)(items);
        return List(std::move(items));
    }

    /// Something worked out from the items, `make(items)` the first time it is asked for and kept with them. One type
    /// stands for one thing. From any thread.
    template <class Derived, class Make>
    const Derived& derived(Make&& make) const {
        const std::lock_guard lock(storage_->mutex);
        for (const auto& [type, kept] : storage_->derived)
            if (type == typeid(Derived)) return *static_cast<const Derived*>(kept.get());
        auto made = std::make_shared<const Derived>(std::forward<Make>(make)(storage_->items));
        storage_->derived.emplace_back(typeid(Derived), made);
        return *made;
    }

private:
    struct Storage {
        explicit Storage(std::vector<T> values) : items(std::move(values)) {}
        std::vector<T> items;
        mutable std::mutex mutex;
        mutable std::vector<std::pair<std::type_index, std::shared_ptr<const void>>> derived;
    };
    static std::shared_ptr<const Storage> empty() {
        static const auto none = std::make_shared<const Storage>(std::vector<T>{});
        return none;
    }
    std::shared_ptr<const Storage> storage_;
};

}  // namespace pinion
