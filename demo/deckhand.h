#pragma once

#include <filesystem>

namespace ternholm {

/// A deckhand who waves the ferry in, before an unevenly lit green cloth: what a card in the scene is made from. A
/// video of 560 x 800, 72 frames that loop; the feet stand 6 rows above its foot.
bool filmDeckhand(const std::filesystem::path& out);

}  // namespace ternholm
