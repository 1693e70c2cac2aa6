#include "shot/carriers/carriers.h"
#include "shot/carriers/things.h"
#include "steady/planemotion.h"

namespace pinion {
namespace {

class PlaneCarrier : public Carrier {
public:
    PlaneCarrier(const Shot& shot, const PlanarTrack& plane, const Ride& ride)
        : Carrier(
              shot.plate.range,
              [plane, ride, whole = wholeRange(shot, ride)] { return motionOf(plane, ride.referenceFrame, whole); }),
          plane_(plane) {}
    bool hasSurface() const override { return !plane_.ties.isEmpty(); }
    std::optional<Quad> cornersOn(int frame) const override { return surfaceAt(plane_, frame); }
    std::unique_ptr<Sheet> surfaceOn(int frame) const override {
        const auto sheet = SurfaceSheet::of(plane_, frame);
        return sheet ? std::make_unique<SurfaceSheet>(*sheet) : nullptr;
    }
    std::vector<int> surfaceFrames() const override {
        std::vector<int> frames;
        for (const PlaneSample& sample : plane_.samples) frames.push_back(sample.frame);
        return frames;
    }
    std::optional<double> surfaceRatio() const override {
        const auto size = squaredSize(plane_);
        return size ? std::optional(double(size->width) / size->height) : std::nullopt;
    }

private:
    PlanarTrack plane_;
};

std::shared_ptr<const Carrier> planeCarrying(const Shot& shot, const Ride& ride) {
    return std::make_shared<const PlaneCarrier>(shot, *findPlane(shot, ride.ids.front()), ride);
}

}  // namespace

Ride rideOnPlane(PlaneId plane, int referenceFrame) { return {"plane", {plane}, referenceFrame}; }

CarrierKind planeCarrier() {
    return {.word = "plane",
            .thing = "plane",
            .make = planeCarrying,
            .addKey = [](Fingerprint& print, const Shot& shot,
                         const Ride& ride) { addPlane(print, *findPlane(shot, ride.ids.front())); },
            .isThere =
                [](const Shot& shot, const Ride& ride, int frame) {
                    const PlanarTrack* plane = findPlane(shot, ride.ids.front());
                    return !plane || surfacePoseOn(*plane, frame);
                },
            .nameOf = nameOfThing<&Shot::planes>,
            .idOf = idOfThing<&Shot::planes>,
            .offered = ridesOnThings<&Shot::planes, rideOnPlane>};
}

}  // namespace pinion
