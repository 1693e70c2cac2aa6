#include "shot/carriers/carriers.h"
#include "shot/carriers/things.h"

namespace pinion {
namespace {

/// What the locator is on, told from the ride's reference frame.
Ride onwards(const Shot& shot, const Ride& ride) {
    Ride on = findLocator(shot, ride.ids.front())->on;
    on.referenceFrame = ride.referenceFrame;
    return on;
}

/// A locator on a locator is no carrier: a file could tie them in a ring.
bool leadsOn(const Shot& shot, const Ride& ride) { return onwards(shot, ride).on != ride.on; }

/// What carries the locator carries what is on it.
std::shared_ptr<const Carrier> locatorCarrying(const Shot& shot, const Ride& ride) {
    if (leadsOn(shot, ride)) return carrierOf(shot, onwards(shot, ride));
    return std::make_shared<const Carrier>(shot.plate.range, []() -> Expected<PlateMotion> {
        return failure(Fault::input, "rides on a locator that is on a locator itself");
    });
}

std::string wordsForLocator(const Shot& shot, const Ride& ride) {
    const auto names = namesOf(shot, ride);
    return names.empty() ? "a locator that is gone" : "locator " + names.front();
}

}  // namespace

Ride rideOnLocator(LocatorId locator, int referenceFrame) { return {"locator", {locator}, referenceFrame}; }

CarrierKind locatorCarrier() {
    return {.word = "locator",
            .thing = "locator",
            .make = locatorCarrying,
            .addKey =
                [](Fingerprint& print, const Shot& shot, const Ride& ride) {
                    if (leadsOn(shot, ride)) addRide(print, shot, onwards(shot, ride));
                },
            .addSurfaceKey =
                [](Fingerprint& print, const Shot& shot, const Ride& ride) {
                    if (leadsOn(shot, ride)) addRideWithSurface(print, shot, onwards(shot, ride));
                },
            .isQuick =
                [](const Shot& shot, const Ride& ride) {
                    return !leadsOn(shot, ride) || quickCarrierOf(shot, onwards(shot, ride)) != nullptr;
                },
            .isThere =
                [](const Shot& shot, const Ride& ride, int frame) {
                    if (!leadsOn(shot, ride)) return true;
                    const Ride on = onwards(shot, ride);
                    return referenceForRide(shot, on, frame) == frame;
                },
            .words = wordsForLocator,
            .nameOf = nameOfThing<&Shot::locators>,
            .idOf = idOfThing<&Shot::locators>,
            .offered = ridesOnThings<&Shot::locators, rideOnLocator>,
            .tracks =
                [](const Shot& shot, const Ride& ride) {
                    return leadsOn(shot, ride) ? tracksCarrying(shot, onwards(shot, ride)) : std::vector<TrackId>{};
                }};
}

}  // namespace pinion
