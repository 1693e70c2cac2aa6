#pragma once

#include "base/fingerprint.h"
#include "shot/shot.h"

#include <string>

namespace pinion {

// What results are made from. Each of these adds all that one thing depends on, whatever lies behind it: a result
// declares its ingredients once, and its key and its staleness follow.

/// Whether what is set aside counts.
enum class AsideTracks { leftOut, taken };
/// Ids and where they are.
void addTracks(Fingerprint& print, const List<Track>& tracks, AsideTracks aside);
void addTrack(Fingerprint& print, const Track& track);
/// All of them, as they are handed on.
void addWholeTracks(Fingerprint& print, const List<Track>& tracks);
void addTrackNames(Fingerprint& print, const List<Track>& tracks);
void addText(Fingerprint& print, const std::string& text);
void addRate(Fingerprint& print, const FrameRate& rate);
/// Size, shape of its pixels, rate, times, the range that is worked on; not the pictures.
void addPlate(Fingerprint& print, const PlateRef& plate);
void addLens(Fingerprint& print, const Lens& lens);
/// The lens that the shot is seen through, on every frame.
void addLensInForce(Fingerprint& print, const Shot& shot);
void addPlane(Fingerprint& print, const PlanarTrack& plane);
/// Camera, lens, points and figures of the solve; of none nothing.
void addSolve(Fingerprint& print, const Shot& shot);
/// Poses and points of the objects, and how they are called.
void addObjects(Fingerprint& print, const Shot& shot);
/// The decisions about the world, and the solve that they are about.
void addWorld(Fingerprint& print, const Shot& shot);
/// What stands in the world, and its light.
void addScene(Fingerprint& print, const Shot& shot);
/// All that the shapes cover, and how they are called; what they ride on too.
void addMattes(Fingerprint& print, const Shot& shot);

/// What a list is written as in a file, summed once for each version of the list: for what has many parts, of which
/// each counts. `text` takes the list.
template <class Item, class Text>
void addPart(Fingerprint& print, const List<Item>& items, const Text& text) {
    struct Sum {
        std::uint64_t value;
    };
    print.add(items
                  .template derived<Sum>([&](const std::vector<Item>&) {
                      Fingerprint own;
                      addText(own, text(items));
                      return Sum{own.value()};
                  })
                  .value);
}

}  // namespace pinion
