#pragma once

#include "canvas/plateview.h"
#include "picture/picture.h"

#include <QImage>
#include <QString>

#include <memory>

class QPainter;

namespace pinion {

/// A picture made from the plate's, for a sight that shows more than the plate moved about: bent, compared. It never
/// changes; a sight gives another one when it would show something else.
class Rendering {
public:
    virtual ~Rendering() = default;
    /// Runs in threads of the live lane.
    virtual QImage made(const Picture& picture, const ViewTransform& view) const = 0;
    /// Where its top left corner lies in the straight picture.
    virtual QPointF corner() const { return {0, 0}; }
};

/// A way to see the plate other than as filmed: steadied, held on a track.
class Sight {
public:
    virtual ~Sight() = default;
    virtual QString name() const = 0;
    /// One of the ways to look that are chosen; otherwise it only holds the plate still.
    virtual bool isView() const { return true; }
    virtual PlateWarp warpAt(int frame) const = 0;  ///< the bare plate where there is none
    /// What makes the picture of a frame; null: it is the plate's own.
    virtual std::shared_ptr<const Rendering> rendering(int) const { return nullptr; }
    virtual QString words(int frame) const = 0;        ///< what is seen, in the picture's corner
    virtual bool isTroubled() const { return false; }  ///< the words are a problem
    /// What lies beyond the frame is dimmed, and the plate's own border drawn.
    virtual bool showsBorder(int) const { return false; }
    virtual bool fills() const { return true; }
    /// What has to be seen of the shown picture; none: the plate's frame.
    virtual std::optional<QRectF> extent() const { return std::nullopt; }
    /// It shows another picture than the plate: what lies on the plate is not drawn, and tools rest.
    virtual bool isOfPlate() const { return true; }
    /// The plate as filmed, with something over it: what is worked on lies where it lies on the plate.
    virtual bool isOverPlate() const { return false; }
    /// Tracks are drawn over it.
    virtual bool showsTracks() const { return true; }
    /// What it draws of its own.
    virtual void paint(QPainter&, const PlateView&) const {}
};

/// A sight by itself, or the plate as filmed beside it.
enum class Compare { none, wipe, beside };

}  // namespace pinion
