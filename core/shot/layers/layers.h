#pragma once

#include "comp/composing.h"
#include "shot/ingredients.h"
#include "shot/shot.h"

#include <span>
#include <string>
#include <string_view>
#include <vector>

namespace pinion {

/// One kind of layer: a file of this folder and a line of the table. Whatever it shows, it stands in the list of
/// inserts, is laid in their order, and has their grade, hold-out, blend and times.
struct LayerKind {
    const char* word;  ///< in files
    /// Gives the layer its source; `notes` hears of what cannot be shown as it should.
    void (*make)(const Shot&, InsertScene::One&, std::vector<std::string>& notes) = nullptr;
    /// Adds what it shows depends on beside what the insert itself says; null: nothing.
    void (*addKey)(Fingerprint&, const Shot&, const Insert&) = nullptr;
    /// What is to be known of it, a sentence each; null: nothing.
    std::vector<std::string> (*notesOf)(const Shot&, const Insert&) = nullptr;
};

/// The word of the layer that shows the stand-ins.
inline constexpr const char* kSceneLayer = "stand-ins";
/// Of a picture of one frame (`time.start`) that is thrown on to a stand-in (`of`), or the ground.
inline constexpr const char* kThrownLayer = "thrown";

/// Stand-ins as the shot's camera sees them, which has to be solved; `samples` rays through a pixel at an edge.
std::shared_ptr<const LayerSource> sceneSource(const Shot& shot, const SceneLook& look, int samples = 64);

std::span<const LayerKind> layerKinds();
/// Null for a kind that this program does not know.
const LayerKind* layerKind(std::string_view word);

/// What an insert lies in, in this shot.
InsertSurface surfaceOf(const Shot& shot, const Insert& insert);

/// All that the shot's inserts are made from.
InsertScene insertSceneOf(const Shot& shot);

/// Inserts with what they show, ride on, and are seen behind.
void addInserts(Fingerprint& print, const Shot& shot);

}  // namespace pinion
