#include "lens/lensjson.h"

namespace pinion {
namespace {

using namespace jsonfile;

json fieldValue(const LensField& field) {
    json offsets = json::array();
    for (const Eigen::Vector2d& one : field.coefficients()) offsets.push_back({one.x(), one.y()});
    return {{"columns", field.columns()}, {"rows", field.rows()}, {"offsets_px", std::move(offsets)}};
}

LensField takeField(const json& value, const Lens& lens, const std::string& where) {
    std::vector<Eigen::Vector2d> offsets;
    for (const json& one : list(value, "offsets_px", where)) {
        const std::string place = fmt::format("{}.offsets_px[{}]", where, offsets.size());
        if (!one.is_array() || one.size() != 2) malformed(place + ": has not 2 numbers");
        offsets.emplace_back(number(one[0], place), number(one[1], place));
    }
    return {lens.width, lens.height, whole(value, "columns", where), whole(value, "rows", where), std::move(offsets)};
}

}  // namespace

json lensValues(const Lens& lens) {
    json value{{"width", lens.width}, {"height", lens.height}, {"focal_px", lens.focal_px},
               {"cx", lens.cx},       {"cy", lens.cy},         {"squeeze", lens.squeeze}};
    if (lens.field) {
        value["model"] = "field";
        value["field"] = fieldValue(*lens.field);
        return value;
    }
    value["model"] = "brown-conrady";
    for (const auto& [name, coefficient] : {std::pair<const char*, double>{"k1", lens.k1},
                                            {"k2", lens.k2},
                                            {"k3", lens.k3},
                                            {"p1", lens.p1},
                                            {"p2", lens.p2}})
        value[name] = coefficient;
    return value;
}

Lens takeOwnLensValues(const json& object, const std::string& where) {
    const std::string model =
        object.is_object() && object.contains("model") ? text(object, "model", where) : std::string("brown-conrady");
    if (model != "brown-conrady" && model != "field")
        malformed(where + ".model: '" + model + "' is not known; brown-conrady or field is expected");
    Lens lens;
    lens.width = whole(object, "width", where);
    lens.height = whole(object, "height", where);
    lens.focal_px = number(object, "focal_px", where);
    lens.cx = number(object, "cx", where);
    lens.cy = number(object, "cy", where);
    lens.squeeze = numberOr(object, "squeeze", 1, where);
    if (model == "field") {
        lens.field = SharedField(takeField(member(object, "field", where), lens, where + ".field"));
    } else {
        lens.k1 = number(object, "k1", where);
        lens.k2 = number(object, "k2", where);
        lens.k3 = numberOr(object, "k3", 0, where);
        lens.p1 = numberOr(object, "p1", 0, where);
        lens.p2 = numberOr(object, "p2", 0, where);
    }
    if (const auto checked = checkLensValues(lens); !checked) malformed(where + ": " + checked.error().message);
    return lens;
}

Lens takeLensValues(const json& object, const std::string& where) {
    Lens lens = takeOwnLensValues(object, where);
    if (const auto checked = checkLens(lens); !checked) malformed(where + ": " + checked.error().message);
    return lens;
}

}  // namespace pinion
