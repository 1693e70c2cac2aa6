#include "matte/mattejson.h"

namespace pinion {

using namespace jsonfile;

json mattesValue(std::span<const Matte> mattes) {
    json shapes = json::array();
    for (const Matte& matte : mattes) {
        json keys = json::array();
        for (const Matte::Key& key : matte.keys) {
            json polygon = json::array();
            for (const Eigen::Vector2d& corner : key.polygon) polygon.push_back({corner.x(), corner.y()});
            keys.push_back({{"frame", key.frame}, {"polygon", std::move(polygon)}});
        }
        shapes.push_back({{"name", matte.name},
                          {"mode", matte.mode == Matte::Mode::include ? "include" : "exclude"},
                          {"keys", std::move(keys)}});
    }
    return shapes;
}

std::vector<Matte> takeMattes(const json& shapes, const std::string& name) {
    std::vector<Matte> mattes;
    for (std::size_t i = 0; const json& shape : shapes) {
        const std::string where = fmt::format("{}[{}]", name, i++);
        Matte matte;
        matte.name = text(shape, "name", where);
        const std::string mode = shape.contains("mode") ? text(shape, "mode", where) : "exclude";
        if (mode != "exclude" && mode != "include")
            malformed(where + ".mode: is '" + mode + "'; exclude or include is expected");
        matte.mode = mode == "include" ? Matte::Mode::include : Matte::Mode::exclude;
        for (std::size_t k = 0; const json& key : list(shape, "keys", where)) {
            const std::string place = where + "." + fmt::format("keys[{}]", k++);
            Matte::Key taken{whole(key, "frame", place), {}};
            for (std::size_t c = 0; const json& corner : list(key, "polygon", place)) {
                const std::string spot = place + "." + fmt::format("polygon[{}]", c++);
                if (!corner.is_array() || corner.size() != 2) malformed(spot + ": is not a pair of numbers");
                taken.polygon.emplace_back(number(corner[0], spot), number(corner[1], spot));
            }
            if (taken.polygon.size() < 3) malformed(place + ".polygon: has fewer than three corners");
            if (!matte.keys.empty() && taken.frame <= matte.keys.back().frame)
                malformed(place + ".frame: frames have to rise, each once");
            if (!matte.keys.empty() && taken.polygon.size() != matte.keys.front().polygon.size())
                malformed(place + ".polygon: has another number of corners than the first key");
            matte.keys.push_back(std::move(taken));
        }
        if (matte.keys.empty()) malformed(where + ".keys: the list is empty");
        mattes.push_back(std::move(matte));
    }
    return mattes;
}

}  // namespace pinion
