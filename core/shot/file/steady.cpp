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
constexpr std::array kSources{"all tracks", "chosen", "plane"};

json steadyValue(const SteadySettings& s) {
    const SteadyOptions& o = s.options;
    json value{{"steady", s.steady},
               {"source", kSources[std::size_t(s.source)]},
               {"tracks", s.tracks.vector()},
               {"corner_pin", s.cornerPin},
               {"square_up", s.squareUp},
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
               {"render_place", s.renderPlace}};
    if (!s.plane.empty()) value["plane"] = s.plane;
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

SteadySettings takeSteady(const json& value) {
    SteadySettings s;
    const std::string where = "steady";
    SteadyOptions& o = s.options;
    s.steady = flagOr(value, "steady", false, where);
    s.source = word<SteadySettings::Source>(value, "source", kSources, where);
    s.tracks = takeIds(value, "tracks", where);
    if (value.contains("plane")) s.plane = text(value, "plane", where);
    s.cornerPin = flagOr(value, "corner_pin", false, where);
    s.squareUp = flagOr(value, "square_up", false, where);
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
    s.renderPlace = text(value, "render_place", where);
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

List<Locator> takeLocators(const json& values) {
    std::vector<Locator> locators;
    for (std::size_t i = 0; const json& entry : values) {
        const std::string where = fmt::format("locators[{}]", i++);
        locators.push_back({text(entry, "name", where), takeIds(entry, "tracks", where),
                            whole(entry, "reference_frame", where),
                            word<MotionKind>(entry, "kind", kMotionKinds, where),
                            entry.contains("plane") ? text(entry, "plane", where) : std::string()});
    }
    return List<Locator>(std::move(locators));
}

void putSteadyPart(json& document, const Shot& shot, const fs::path&) {
    if (!(shot.steady.tracks.isEmpty() && !shot.steady.changesPicture() && !shot.steady.profile &&
          shot.steady.plane.empty() && shot.steady.options == SteadyOptions{} &&
          shot.steady.model == PictureModel::automatic && shot.steady.renderPlace.empty()))
        document["steady"] = steadyValue(shot.steady);
    for (const Locator& locator : shot.locators) {
        json entry{{"name", locator.name},
                   {"tracks", locator.tracks.vector()},
                   {"reference_frame", locator.referenceFrame},
                   {"kind", kMotionKinds[std::size_t(locator.kind)]}};
        if (!locator.plane.empty()) entry["plane"] = locator.plane;
        document["locators"].push_back(std::move(entry));
    }
}

void takeSteadyPart(const json& document, Shot& shot, const fs::path&) {
    if (document.contains("steady")) shot.steady = takeSteady(document["steady"]);
    if (document.contains("locators")) shot.locators = takeLocators(list(document, "locators", "file"));
}

}  // namespace

ShotFilePart steadyPart() { return {putSteadyPart, takeSteadyPart}; }

}  // namespace pinion
