#pragma once

#include <functional>
#include <memory>
#include <utility>
#include <vector>

namespace pinion {

/// An immutable sequence, shared between the versions of a shot. Copying costs a pointer; `edited` makes a new one.
template <class T>
class List {
public:
    List() : items_(empty()) {}
    List(std::vector<T> items) : items_(std::make_shared<const std::vector<T>>(std::move(items))) {}  // NOLINT: a value

    std::size_t size() const { return items_->size(); }
    bool isEmpty() const { return items_->empty(); }
    const T& operator[](std::size_t index) const { return (*items_)[index]; }
    const T& back() const { return items_->back(); }
    const T& front() const { return items_->front(); }
    auto begin() const { return items_->begin(); }
    auto end() const { return items_->end(); }
    const std::vector<T>& vector() const { return *items_; }

    /// Whether both are the same version: cheap, and enough to know that nothing has to be redrawn.
    bool sharedWith(const List& other) const { return items_ == other.items_; }

    /// A new list: this one after `edit` has changed it.
    template <class Edit>
    List edited(Edit&& edit) const {
        std::vector<T> items = *items_;
        std::forward<Edit>(edit)(items);
        return List(std::move(items));
    }

private:
    static std::shared_ptr<const std::vector<T>> empty() {
        static const auto none = std::make_shared<const std::vector<T>>();
        return none;
    }
    std::shared_ptr<const std::vector<T>> items_;
};

}  // namespace pinion
