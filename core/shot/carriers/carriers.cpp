#include "shot/carriers/carriers.h"

#include <algorithm>
#include <list>
#include <mutex>
#include <unordered_map>

namespace pinion {
namespace {

/// Carriers by what they are made from; those that were asked for last are kept.
class KeptCarriers {
public:
    std::shared_ptr<const Carrier> find(std::uint64_t key) {
        const std::lock_guard lock(mutex_);
        const auto found = places_.find(key);
        if (found == places_.end()) return nullptr;
        order_.splice(order_.begin(), order_, found->second);
        return found->second->second;
    }
    /// The one that is kept under that key: another thread may have been quicker.
    std::shared_ptr<const Carrier> keep(std::uint64_t key, std::shared_ptr<const Carrier> carrier) {
        const std::lock_guard lock(mutex_);
        if (const auto found = places_.find(key); found != places_.end()) return found->second->second;
        order_.emplace_front(key, carrier);
        places_[key] = order_.begin();
        if (order_.size() > kMost) {
            places_.erase(order_.back().first);
            order_.pop_back();
        }
        return carrier;
    }

private:
    using Order = std::list<std::pair<std::uint64_t, std::shared_ptr<const Carrier>>>;
    static constexpr std::size_t kMost = 256;
    std::mutex mutex_;
    Order order_;
    std::unordered_map<std::uint64_t, Order::iterator> places_;
};

KeptCarriers& keptCarriers() {
    static KeptCarriers kept;
    return kept;
}

/// "a plane", "an object"
std::string one(std::string_view thing) {
    return fmt::format("{} {}", std::string_view("aeiou").find(thing.front()) == std::string_view::npos ? "a" : "an",
                       thing);
}

/// One with nothing but a problem.
std::shared_ptr<const Carrier> nothing(const Shot& shot, const std::string& problem) {
    return std::make_shared<const Carrier>(
        shot.plate.range, [problem]() -> Expected<PlateMotion> { return failure(Fault::input, "{}", problem); });
}

std::uint64_t keyOf(const Shot& shot, const Ride& ride) {
    Fingerprint print;
    addRideWithSurface(print, shot, ride);
    return print.value();
}

std::shared_ptr<const Carrier> carrierOf(const Shot& shot, const Ride& ride, bool mayTakeTime) {
    if (const std::string lack = lackOf(shot, ride); !lack.empty()) return nothing(shot, lack);
    const CarrierKind& kind = *carrierKind(ride.on);
    const std::uint64_t key = keyOf(shot, ride);
    auto carrier = keptCarriers().find(key);
    const bool isQuick = (carrier && carrier->isWorkedOut()) || !kind.isQuick || kind.isQuick(shot, ride);
    if (!isQuick && !mayTakeTime) return nullptr;
    if (!carrier) carrier = keptCarriers().keep(key, kind.make(shot, ride));
    // Whoever asks in a thread of its own wants it worked out there.
    if (!isQuick) (void)carrier->problem();
    return carrier;
}

}  // namespace

const CarrierKind* carrierKind(std::string_view word) {
    for (const CarrierKind& kind : carrierKinds())
        if (word == kind.word) return &kind;
    return nullptr;
}

std::shared_ptr<const Carrier> ShotCarriers::of(const Ride& ride) const { return carrierOf(shot_, ride, true); }
std::shared_ptr<const Carrier> ShotCarriers::quickOf(const Ride& ride) const { return carrierOf(shot_, ride, false); }

ShotCarriers carriersOf(const Shot& shot) { return ShotCarriers(shot); }
std::shared_ptr<const Carrier> carrierOf(const Shot& shot, const Ride& ride) { return carrierOf(shot, ride, true); }
std::shared_ptr<const Carrier> quickCarrierOf(const Shot& shot, const Ride& ride) {
    return carrierOf(shot, ride, false);
}

std::string lackOf(const Shot& shot, const Ride& ride) {
    const CarrierKind* kind = carrierKind(ride.on);
    if (!kind) return fmt::format("rides on a {}, which this version does not know", ride.on);
    if (!ride.names.empty())
        return fmt::format("rides on the {} {}, and there is no such {}", kind->thing, ride.names.front(), kind->thing);
    if (kind->nameOf && ride.ids.empty()) return "rides on nothing";
    for (const std::int64_t id : ride.ids)
        if (kind->nameOf && !kind->nameOf(shot, id)) return fmt::format("rides on {} that is gone", one(kind->thing));
    return {};
}

FrameRange wholeRange(const Shot& shot, const Ride& ride) {
    return {std::min(shot.plate.range.first, ride.referenceFrame),
            std::max(shot.plate.range.last, ride.referenceFrame)};
}

void addRide(Fingerprint& print, const Shot& shot, const Ride& ride) {
    addText(print, ride.on);
    print.add(ride.referenceFrame).add(ride.as ? int(*ride.as) : -1).add(int(ride.ids.size()));
    for (const std::int64_t id : ride.ids) print.add(std::uint64_t(id));
    for (const std::string& name : ride.names) addText(print, name);
    print.add(shot.plate.range.first).add(shot.plate.range.last);
    const std::string lack = lackOf(shot, ride);
    addText(print, lack);
    if (lack.empty()) carrierKind(ride.on)->addKey(print, shot, ride);
}

void addRideWithSurface(Fingerprint& print, const Shot& shot, const Ride& ride) {
    addRide(print, shot, ride);
    const CarrierKind* kind = lackOf(shot, ride).empty() ? carrierKind(ride.on) : nullptr;
    if (kind && kind->addSurfaceKey) kind->addSurfaceKey(print, shot, ride);
}

std::string wordsOf(const Shot& shot, const Ride& ride) {
    const CarrierKind* kind = carrierKind(ride.on);
    if (!kind) return ride.on;
    if (kind->words) return kind->words(shot, ride);
    const auto names = namesOf(shot, ride);
    return names.empty() ? fmt::format("{} that is gone", one(kind->thing)) : names.front();
}

std::vector<std::string> namesOf(const Shot& shot, const Ride& ride) {
    std::vector<std::string> names = ride.names;
    const CarrierKind* kind = carrierKind(ride.on);
    for (const std::int64_t id : ride.ids)
        if (const std::string* name = kind && kind->nameOf ? kind->nameOf(shot, id) : nullptr) names.push_back(*name);
    return names;
}

Ride named(const Shot& shot, Ride ride) {
    ride.names = namesOf(shot, ride);
    ride.ids.clear();
    return ride;
}

Ride tied(const Shot& shot, Ride ride) {
    const CarrierKind* kind = carrierKind(ride.on);
    if (!kind || !kind->idOf || ride.names.empty()) return ride;
    std::vector<std::int64_t> ids;
    for (const std::string& name : ride.names) {
        const auto id = kind->idOf(shot, name);
        // Half of it is no carrier: all stay names, the one that is missing first.
        if (!id) {
            std::stable_partition(ride.names.begin(), ride.names.end(),
                                  [&](const std::string& one) { return one == name; });
            return ride;
        }
        ids.push_back(*id);
    }
    ride.ids.insert(ride.ids.end(), ids.begin(), ids.end());
    ride.names.clear();
    return ride;
}

std::vector<TrackId> tracksCarrying(const Shot& shot, const Ride& ride) {
    const CarrierKind* kind = lackOf(shot, ride).empty() ? carrierKind(ride.on) : nullptr;
    return kind && kind->tracks ? kind->tracks(shot, ride) : std::vector<TrackId>{};
}

int referenceForRide(const Shot& shot, const Ride& ride, int frame) {
    const CarrierKind* kind = lackOf(shot, ride).empty() ? carrierKind(ride.on) : nullptr;
    if (!kind || !kind->isThere) return frame;
    const int most = shot.plate.range.count();
    for (int away = 0; away <= most; ++away)
        for (const int tried : {frame - away, frame + away})
            if (kind->isThere(shot, ride, tried)) return tried;
    return frame;
}

std::vector<Ride> ridesOf(const Shot& shot) {
    std::vector<Ride> rides;
    (void)withRidesEdited(shot, [&](Ride ride) {
        rides.push_back(ride);
        return ride;
    });
    return rides;
}

namespace {

/// The list, with each ride that `rideOf` finds in an item edited; the same version where nothing changed.
template <class Item, class RideOf>
List<Item> ridesEdited(const List<Item>& items, const std::function<Ride(Ride)>& edit, const RideOf& rideOf) {
    List<Item> result = items;
    for (std::size_t i = 0; i < items.size(); ++i) {
        const Ride* before = rideOf(items[i]);
        if (!before) continue;
        if (const Ride after = edit(*before); !(after == *before))
            result = result.edited([&](auto& all) { *rideOf(all[i]) = after; });
    }
    return result;
}

}  // namespace

Shot withRidesEdited(const Shot& shot, const std::function<Ride(Ride)>& edit) {
    Shot result = shot;
    const auto own = [](auto& one) { return one.ride ? &*one.ride : nullptr; };
    result.mattes = ridesEdited(shot.mattes, edit, own);
    result.inserts = ridesEdited(shot.inserts, edit, own);
    result.locators = ridesEdited(shot.locators, edit, [](auto& locator) { return &locator.on; });
    result.steady.on = edit(shot.steady.on);
    return result;
}

}  // namespace pinion
