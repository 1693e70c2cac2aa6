#pragma once

#include "base/framerate.h"
#include "comp/artshelf.h"
#include "comp/insertion.h"

#include <memory>
#include <optional>
#include <string>
#include <vector>

namespace pinion {

/// What a layer is asked for.
struct LayerWish {
    int frame = 0;
    int width = 0, height = 0;  ///< of the plate
    FrameRate fps;              ///< of the plate
    bool linear = false;        ///< whether the plate's tones are
    int margin = 0;             ///< pixels outside the frame that are kept, for what is done to it next
};

/// Something that gives a layer on a frame of the plate: art on a carrier is one kind. However it is made, it is
/// graded, blurred, held out, faded and laid in the same way (composing). Safe to use from several threads.
class LayerSource {
public:
    virtual ~LayerSource() = default;
    /// As it is before anything is done to it; empty where it is not there. What cannot be shown as it should is said.
    virtual Layer laid(const LayerWish& wish, ArtShelf& shelf, std::vector<std::string>* problems) const = 0;
    /// How much of it there is on a frame, 0 to 1.
    virtual double shareOn(int /*frame*/) const { return 1; }
    /// The pixels that it may touch on a frame of `width` x `height`.
    virtual PixelBox boxOn(int /*frame*/, int width, int height) const { return {0, 0, width, height}; }
};

/// Art on a surface: a still, a clip, a colour, a test picture.
class ArtSource : public LayerSource {
public:
    ArtSource(Insert insert, std::optional<Clip> clip, std::shared_ptr<const InsertSurface> surface);
    Layer laid(const LayerWish& wish, ArtShelf& shelf, std::vector<std::string>* problems) const override;
    /// Less while what carries it is not there, where it fades then.
    double shareOn(int frame) const override;
    PixelBox boxOn(int frame, int width, int height) const override;
    /// Laid in its place at the middle of its shutter, no more.
    Layer bare(const LayerWish& wish, ArtShelf& shelf) const;

private:
    std::vector<std::vector<ArtPiece>> piecesOn(int frame) const;
    std::shared_ptr<const Art> artOn(const LayerWish& wish, ArtShelf& shelf, std::vector<std::string>* problems) const;
    Insert insert_;
    std::optional<Clip> clip_;
    std::shared_ptr<const InsertSurface> surface_;
};

/// Adds words that are not there yet.
void noteOnce(std::vector<std::string>* problems, std::string words);

}  // namespace pinion
