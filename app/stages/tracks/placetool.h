#pragma once

#include "canvas/canvas.h"
#include "session/derived.h"
#include "stages/tracks/spots.h"
#include "stages/tracks/trackhand.h"
#include "track/advice.h"

namespace pinion {

/// Places tracks by click, under a loupe; before that it says what a pattern there would be worth.
class PlaceTool : public Tool {
public:
    PlaceTool(Session& session, const Spots& spots, Canvas& canvas);

    QString name() const override { return "place"; }
    void press(const CanvasEvent& event) override;
    void drag(const CanvasEvent& event) override;
    void release(const CanvasEvent& event) override;
    bool hover(const CanvasEvent& event) override;
    void leave() override { advice_.reset(); }
    void refresh() override { advice_.reset(); }
    void nudge(const Eigen::Vector2d& by) override { nudgeSelected(session_, by); }
    void putDown() override;
    void paint(QPainter& painter, const PlateView& view) override;

    /// What it says of the spot under the cursor; empty while that is not known.
    QString advice() const { return advice_ ? text(toString(*advice_)) : QString(); }

private:
    /// The pyramid that spots are judged on, and its grain.
    struct Ground {
        Pyramid pyramid;
        double grain = 0;
    };
    /// What it is made of: another plate has other pictures on the same frames.
    struct GroundKey {
        PicturePtr picture;
        Channel channel = Channel::luma;
        PreFilter filter = PreFilter::none;
        bool operator==(const GroundKey&) const = default;
    };
    GroundKey groundKey() const;
    void advise();
    void paintAdvice(QPainter& painter) const;
    void paintSlide(QPainter& painter, double half) const;

    Session& session_;
    const Spots& spots_;
    Canvas& canvas_;
    Derived<Ground, GroundKey> ground_;
    QPointF at_;
    std::optional<Eigen::Vector2d> plate_;
    std::optional<Eigen::Vector2d> placed_;  ///< while the button is down
    std::optional<SpotAdvice> advice_;
};

}  // namespace pinion
