#pragma once

#include "base/list.h"

#include <algorithm>
#include <fmt/format.h>
#include <string>

namespace pinion {

/// A name that no other of the list has: the wanted one, else with a number behind; where none is wanted that of the
/// kind, numbered from 1. `except`: the id of the one that is to be named.
template <class Item, class Id>
std::string freeName(const List<Item>& items, Id except, const std::string& wanted, const char* kind) {
    const auto isTaken = [&](const std::string& name) {
        return std::any_of(items.begin(), items.end(),
                           [&](const Item& item) { return item.id != except && item.name == name; });
    };
    if (!wanted.empty() && !isTaken(wanted)) return wanted;
    const std::string base = wanted.empty() ? kind : wanted;
    for (int number = wanted.empty() ? 1 : 2;; ++number)
        if (std::string name = fmt::format("{} {}", base, number); !isTaken(name)) return name;
}

}  // namespace pinion
