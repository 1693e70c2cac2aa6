#pragma once

#include "comp/art.h"
#include "plate/plate.h"

#include <cstdint>
#include <list>
#include <map>
#include <memory>
#include <mutex>

namespace pinion {

/// What a file says of itself as a clip: one picture is a still, whatever its name; all the numbered pictures about it
/// are meant by their pattern, "lamp.####.png", or their folder. Fails for one without pixels, one too large to be
/// laid, or one that cannot be read, with what to do.
Expected<Clip> clipOf(const std::filesystem::path& path);

/// Whether the colours of its pictures are multiplied by their alpha: as told; EXR holds them so (its standard), PNG
/// does not (its own). Fails where nobody can tell.
Expected<AlphaKind> alphaKindOf(const Clip& clip);

/// Opens clips, and keeps their latest frames ready to be laid; a file that was replaced is read anew. Safe to use from
/// several threads.
class ArtShelf {
public:
    explicit ArtShelf(std::size_t budgetBytes = std::size_t(512) << 20) : budget_(budgetBytes) {}

    /// The clip's pictures. Fails when the file is not there, or is another than it was; asked again, it looks again.
    Expected<std::shared_ptr<const Plate>> open(const Clip& clip);
    /// One frame of a clip, for a plate whose values are linear or not.
    Expected<std::shared_ptr<const Art>> art(const Clip& clip, int frame, bool forLinear,
                                             const std::optional<ColourKey>& key = std::nullopt);
    std::shared_ptr<const Art> test(double widthToHeight, bool forLinear);
    std::shared_ptr<const Art> plain(const std::array<double, 3>& colour, double widthToHeight, bool forLinear);

private:
    struct Made {
        std::filesystem::path path;  ///< empty: none of a file
        std::uint64_t stamp = 0;     ///< of the file
        int frame = 0;
        bool linear = false;
        std::optional<ColourKey> key;
        std::optional<AlphaKind> alpha;
        std::array<double, 3> colour{};
        double ratio = 0;
        bool operator==(const Made&) const = default;
    };
    std::shared_ptr<const Art> kept(const Made& made);
    std::shared_ptr<const Art> keep(const Made& made, Art art);

    std::size_t budget_;
    std::mutex mutex_;
    struct Opened {
        std::uint64_t stamp;
        std::shared_ptr<const Plate> plate;
    };
    std::map<std::filesystem::path, Opened> open_;
    std::list<std::pair<Made, std::shared_ptr<const Art>>> arts_;  ///< the latest used first
};

}  // namespace pinion
