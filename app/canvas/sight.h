#pragma once

#include "canvas/plateview.h"

#include <QString>

class QPainter;

namespace pinion {

/// A way to see the plate other than as filmed: steadied, held on a track.
class Sight {
public:
    virtual ~Sight() = default;
    virtual QString name() const = 0;
    /// One of the ways to look that are chosen; otherwise it only holds the plate still.
    virtual bool isView() const { return true; }
    virtual PlateWarp warpAt(int frame) const = 0;     ///< the bare plate where there is none
    virtual QString words(int frame) const = 0;        ///< what is seen, in the picture's corner
    virtual bool isTroubled() const { return false; }  ///< the words are a problem
    /// What lies beyond the frame is dimmed, and the plate's own border drawn.
    virtual bool showsBorder(int) const { return false; }
    virtual bool fills() const { return true; }
};

/// A sight by itself, or the plate as filmed beside it.
enum class Compare { none, wipe, beside };

}  // namespace pinion
