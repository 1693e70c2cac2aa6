#include "matte/mattejson.h"
#include "shot/carriers/carriers.h"
#include "shot/file/parts.h"
#include "shot/file/values.h"

namespace pinion {
namespace {

using namespace jsonfile;
using namespace shotfile;
namespace fs = std::filesystem;

constexpr std::array kMotionKinds{"position", "similarity", "corner pin", "perspective"};
constexpr std::array kPictureModels{"auto", "position", "similarity", "perspective"};
constexpr std::array kModes{"hold", "ease"};
constexpr std::array kSmoothers{"gaussian", "l1"};
constexpr std::array kFits{"none", "fill", "crop"};

json steadyValue(const SteadySettings& s) {
    const SteadyOptions& o = s.options;
    json value{{"steady", s.steady},
               {"on", rideValue(s.on)},
               {"tracks", s.tracks.vector()},
               {"corner_pin", s.cornerPin},
               {"square_up", s.squareUp},
               {"straight_rows", s.straightRows},
               {"motion", kPictureModels[std::size_t(s.model)]},
               {"reference_frame", s.referenceFrame},
               {"mode", kModes[std::size_t(o.mode)]},
               {"position", o.position},
               {"rotation", o.rotation},
               {"scale", o.scale},
               {"smoother", kSmoothers[std::size_t(o.smoother)]},
               {"smooth_frames", o.smooth_frames},
               {"leeway", o.leeway},
               {"fit", kFits[std::size_t(o.fit)]},
               {"crop_zoom", o.cropZoom},
               {"crop_centre", {o.cropCentre.x(), o.cropCentre.y()}},
               {"shake", s.shake},
               {"lend_position", s.lending.position},
               {"lend_rotation", s.lending.rotation},
               {"lend_scale", s.lending.scale},
               {"lend_fit", kFits[std::size_t(s.lending.fit)]},
               {"filter", toString(s.filter)},
               {"edges", toString(s.edges)},
               {"render_place", s.renderPath}};
    if (s.profile) {
        json samples = json::array();
        for (const ShakeSample& sample : s.profile->samples)
            samples.push_back({sample.x, sample.y, sample.angleDegrees, sample.scale});
        value["profile"] = {
            {"name", s.profile->name}, {"above_hz", s.profile->above_hz}, {"samples", std::move(samples)}};
        putRate(value["profile"], s.profile->fps);
    }
    return value;
}

/// What older files hold still: all tracks, those that were chosen, or a plane by its name.
Ride takeOldSource(const json& value, const List<TrackId>& chosen, const std::string& where) {
    constexpr std::array kSources{"all tracks", "chosen", "plane"};
    enum class OldSource { allTracks, chosenTracks, plane };
    const auto source = word<OldSource>(value, "source", kSources, where);
    if (source == OldSource::allTracks) return rideOnPicture();
    if (source == OldSource::chosenTracks) return rideOnTracks(chosen.vector());
    Ride plane{"plane", {}};
    if (value.contains("plane")) plane.names = {text(value, "plane", where)};
    return plane;
}

SteadySettings takeSteady(const json& value) {
    SteadySettings s;
    const std::string where = "steady";
    SteadyOptions& o = s.options;
    s.steady = flagOr(value, "steady", false, where);
    s.tracks = takeIds(value, "tracks", where);
    if (value.contains("on")) s.on = takeRide(value["on"], where + ".on");
    else s.on = takeOldSource(value, s.tracks, where);
    s.cornerPin = flagOr(value, "corner_pin", false, where);
    s.squareUp = flagOr(value, "square_up", false, where);
    s.straightRows = flagOr(value, "straight_rows", true, where);
    if (value.contains("motion")) s.model = word<PictureModel>(value, "motion", kPictureModels, where);
    s.referenceFrame = whole(value, "reference_frame", where);
    o.mode = word<SteadyOptions::Mode>(value, "mode", kModes, where);
    for (const auto& [name, target] : {std::pair<const char*, double*>{"position", &o.position},
                                       {"rotation", &o.rotation},
                                       {"scale", &o.scale},
                                       {"lend_position", &s.lending.position},
                                       {"lend_rotation", &s.lending.rotation},
                                       {"lend_scale", &s.lending.scale},
                                       {"smooth_frames", &o.smooth_frames},
                                       {"leeway", &o.leeway},
                                       {"crop_zoom", &o.cropZoom}})
        *target = number(value, name, where);
    o.smoother = word<SteadyOptions::Smoother>(value, "smoother", kSmoothers, where);
    o.fit = word<SteadyOptions::Fit>(value, "fit", kFits, where);
    o.cropCentre = vector2(member(value, "crop_centre", where), where + ".crop_centre");
    s.shake = flagOr(value, "shake", false, where);
    s.lending.fit = word<SteadyOptions::Fit>(value, "lend_fit", kFits, where);
    const auto filter = resampleFilterFrom(text(value, "filter", where));
    const auto edges = edgeModeFrom(text(value, "edges", where));
    if (!filter || !edges) malformed(where + ": filter or edges are not known");
    s.filter = *filter;
    s.edges = *edges;
    s.renderPath = text(value, "render_place", where);
    if (value.contains("profile")) {
        const json& held = value["profile"];
        ShakeProfile profile{text(held, "name", "steady.profile"),
                             takeRate(held, "steady.profile"),
                             number(held, "above_hz", "steady.profile"),
                             {}};
        for (const json& sample : list(held, "samples", "steady.profile")) {
            if (!sample.is_array() || sample.size() != 4) malformed("steady.profile.samples: has not 4 numbers");
            profile.samples.push_back({number(sample[0], where), number(sample[1], where), number(sample[2], where),
                                       number(sample[3], where)});
        }
        s.profile = std::make_shared<const ShakeProfile>(std::move(profile));
    }
    return s;
}

/// Older files name no id, and what carries it by tracks or the name of a plane.
Locator takeLocator(const json& entry, const std::string& where) {
    Locator locator{0, text(entry, "name", where), {}};
    if (entry.contains("id")) locator.id = LocatorId(key(entry, "id", where));
    if (entry.contains("on")) {
        locator.on = takeRide(entry["on"], where + ".on");
        return locator;
    }
    if (entry.contains("plane")) locator.on = {.on = "plane", .ids = {}, .names = {text(entry, "plane", where)}};
    else locator.on = rideOnTracks(takeIds(entry, "tracks", where).vector());
    locator.on.referenceFrame = whole(entry, "reference_frame", where);
    locator.on.as = word<MotionKind>(entry, "kind", kMotionKinds, where);
    return locator;
}

void putSteadyPart(json& document, const Shot& shot, const fs::path&) {
    if (!(shot.steady.tracks.isEmpty() && !shot.steady.changesPicture() && !shot.steady.profile &&
          shot.steady.on == SteadySettings{}.on && shot.steady.options == SteadyOptions{} &&
          shot.steady.model == PictureModel::automatic && shot.steady.straightRows &&
          shot.steady.renderPath.empty()))
        document["steady"] = steadyValue(shot.steady);
    for (const Locator& locator : shot.locators)
        document["locators"].push_back({{"id", locator.id}, {"name", locator.name}, {"on", rideValue(locator.on)}});
    if (shot.nextLocator > 1) document["next_locator"] = shot.nextLocator;
}

void takeSteadyPart(const json& document, Shot& shot, const fs::path&) {
    if (document.contains("steady")) shot.steady = takeSteady(document["steady"]);
    std::vector<Locator> locators;
    if (document.contains("locators"))
        for (const json& entry : list(document, "locators", "file")) {
            const std::string where = fmt::format("locators[{}]", locators.size());
            Locator locator = takeLocator(entry, where);
            for (const Locator& other : locators)
                if (locator.id != 0 && other.id == locator.id) malformed(where + ".id: is there twice");
            shot.nextLocator = std::max(shot.nextLocator, locator.id + 1);
            locators.push_back(std::move(locator));
        }
    if (document.contains("next_locator"))
        shot.nextLocator = std::max(shot.nextLocator, LocatorId(key(document, "next_locator", "file")));
    for (Locator& locator : locators)
        if (locator.id == 0) locator.id = shot.nextLocator++;
    shot.locators = List<Locator>(std::move(locators));
}

}  // namespace

ShotFilePart steadyPart() { return {putSteadyPart, takeSteadyPart}; }

}  // namespace pinion
