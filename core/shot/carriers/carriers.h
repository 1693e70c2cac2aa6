#pragma once

#include "motion/carrier.h"
#include "shot/ingredients.h"
#include "shot/shot.h"

#include <memory>
#include <optional>
#include <span>
#include <string>
#include <string_view>
#include <vector>

namespace pinion {

/// One kind of carrier: a file of this folder and a line of the table. Mattes, inserts, steadying, locators, files and
/// cards know no kind but by this. Null members stand for what the comment says.
struct CarrierKind {
    const char* word;   ///< in files: "tracks"
    const char* thing;  ///< one of what carries: "track"
    /// What carries a ride of this kind, over the shot's range. The ride has ids that are there.
    std::shared_ptr<const Carrier> (*make)(const Shot&, const Ride&) = nullptr;
    /// Adds all that its motion depends on beside the ride itself and the range.
    void (*addKey)(Fingerprint&, const Shot&, const Ride&) = nullptr;
    /// Adds what a surface that it carries is bent by beside; null: nothing.
    void (*addSurfaceKey)(Fingerprint&, const Shot&, const Ride&) = nullptr;
    /// It carries the whole frame: what is pinned to it lies in that.
    bool carriesFrame = false;
    /// Whether it is worked out in no time; null: it is.
    bool (*isQuick)(const Shot&, const Ride&) = nullptr;
    /// Whether it is there on a frame; null: everywhere.
    bool (*isThere)(const Shot&, const Ride&, int frame) = nullptr;
    /// For people: "4 tracks"; null: the name of the thing.
    std::string (*words)(const Shot&, const Ride&) = nullptr;
    /// The name of a thing, or null while it is not there. Null for what has no things.
    const std::string* (*nameOf)(const Shot&, std::int64_t id) = nullptr;
    std::optional<std::int64_t> (*idOf)(const Shot&, const std::string& name) = nullptr;
    /// What a card offers to be ridden on; null: what is chosen elsewhere.
    std::vector<Ride> (*offered)(const Shot&) = nullptr;
    /// The tracks that it is made from; null: none.
    std::vector<TrackId> (*tracks)(const Shot&, const Ride&) = nullptr;
};

std::span<const CarrierKind> carrierKinds();
/// Null for a kind that this program does not know.
const CarrierKind* carrierKind(std::string_view word);

// Rides as the window and the command line make them.
Ride rideOnTracks(std::vector<TrackId> tracks, int referenceFrame = 0);
Ride rideOnPicture(int referenceFrame = 0);
Ride rideOnPlane(PlaneId plane, int referenceFrame = 0);
Ride rideOnObject(ObjectId object, int referenceFrame = 0);
/// The level that the world's ground is, as the reference frame sees it.
Ride rideOnGround(int referenceFrame = 0);
Ride rideOnLocator(LocatorId locator, int referenceFrame = 0);

/// What the shot's things carry. It keeps the shot as it was.
class ShotCarriers : public Carriers {
public:
    explicit ShotCarriers(Shot shot) : shot_(std::move(shot)) {}
    std::shared_ptr<const Carrier> of(const Ride& ride) const override;
    std::shared_ptr<const Carrier> quickOf(const Ride& ride) const override;

private:
    Shot shot_;
};

ShotCarriers carriersOf(const Shot& shot);
std::shared_ptr<const Carrier> carrierOf(const Shot& shot, const Ride& ride);
std::shared_ptr<const Carrier> quickCarrierOf(const Shot& shot, const Ride& ride);

/// Why nothing of the shot carries the ride, in words that follow a name: "rides on a plane that is gone". Empty:
/// something does. Quick.
std::string lackOf(const Shot& shot, const Ride& ride);

/// The shot's range, and the ride's reference frame, whose own motion is needed though it may lie outside.
FrameRange wholeRange(const Shot& shot, const Ride& ride);

/// All that a ride's motion depends on, whatever carries it; and what its surface does.
void addRideWithSurface(Fingerprint& print, const Shot& shot, const Ride& ride);
/// Of its motion alone.
void addRide(Fingerprint& print, const Shot& shot, const Ride& ride);

/// In words: "the whole picture", "a and b", "4 tracks", "a plane that is gone".
std::string wordsOf(const Shot& shot, const Ride& ride);
/// The names of what it is on, as a file for people has them.
std::vector<std::string> namesOf(const Shot& shot, const Ride& ride);
/// The same with `names` in place of ids, for a file that other shots may read.
Ride named(const Shot& shot, Ride ride);
/// With the ids of what the shot has under those names. One that it has not stays a name.
Ride tied(const Shot& shot, Ride ride);

/// The tracks that carry it, by themselves or through what lies between.
std::vector<TrackId> tracksCarrying(const Shot& shot, const Ride& ride);
/// The frame nearest to `frame` on which all that carries it is there.
int referenceForRide(const Shot& shot, const Ride& ride, int frame);

/// Every ride of the shot, whatever rides.
std::vector<Ride> ridesOf(const Shot& shot);
/// The shot with each of its rides as `edit` makes it.
Shot withRidesEdited(const Shot& shot, const std::function<Ride(Ride)>& edit);

}  // namespace pinion
