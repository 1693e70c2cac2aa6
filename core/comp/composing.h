#pragma once

#include "comp/artshelf.h"
#include "comp/insert.h"
#include "comp/insertion.h"
#include "comp/layersource.h"

#include <span>
#include <string>
#include <vector>

namespace pinion {

/// What the layers of a shot are made from, worked out once for all frames. Safe to read from several threads.
struct InsertScene {
    struct One {
        Insert insert;
        std::shared_ptr<const LayerSource> source;     ///< never null
        std::optional<Clip> clip;                      ///< of art
        std::shared_ptr<const InsertSurface> surface;  ///< of art; null: it is no art
        std::vector<Matte> heldOut, within;            ///< with their rides taken in
    };
    std::vector<One> inserts;  ///< the lowest first; hidden ones are left out
    int width = 0, height = 0;
    FrameRate fps;
    std::vector<std::string> notes;  ///< what cannot be shown as it should, in words
};

/// An insert as it lies on one frame, before it is mixed with `plate`: graded, blurred, masked, faded. Empty where it
/// is not there. A frame of its clip that cannot be read is stood in for by the one before it, which `problems` says; a
/// clip that is missing leaves it out.
Layer layerOf(const InsertScene& scene, const InsertScene::One& one, int frame, const Picture& plate, ArtShelf& shelf,
              std::vector<std::string>* problems = nullptr);

/// The plate with all inserts; a pixel that none touches is the plate's to the last bit.
Picture composed(const InsertScene& scene, int frame, const Picture& plate, ArtShelf& shelf,
                 std::vector<std::string>* problems = nullptr);
InsertAlone composedAlone(const InsertScene& scene, int frame, const Picture& plate, ArtShelf& shelf,
                          std::vector<std::string>* problems = nullptr);

/// The part of the frame that the inserts may touch on it; empty: none.
PixelBox touchedBy(const InsertScene& scene, int frame);

}  // namespace pinion
