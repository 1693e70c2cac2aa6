#pragma once

class QPainter;

namespace pinion {

class PlateView;

/// Draws one kind of thing on the plate. It sees the plate through the view alone, which may bend and may have no
/// answer for a place.
class Overlay {
public:
    /// What is drawn over what: of two overlays the higher one lies on top.
    enum class Layer { ground, marks, tracks, notes };

    virtual ~Overlay() = default;
    virtual Layer layer() const = 0;
    virtual void paint(QPainter& painter, const PlateView& view) = 0;
};

}  // namespace pinion
