#include "picture/clipjson.h"

#include <algorithm>

namespace pinion {

using namespace jsonfile;

namespace {

constexpr std::array kAfter{"hold", "loop", "end"};

}  // namespace

json keyColourValue(const ColourKey& key) {
    return {{"colour", key.colour}, {"clears", key.clears}, {"keeps", key.keeps}, {"spill", key.spill}};
}

ColourKey takeColourKey(const json& value, const std::string& where) {
    ColourKey key;
    const json& colour = list(value, "colour", where);
    if (colour.size() != 3) malformed(where + ".colour: has not 3 numbers");
    for (std::size_t i = 0; i < 3; ++i) key.colour[i] = float(number(colour[i], where + ".colour"));
    const auto share = [&](const char* name, float usual) {
        return float(std::clamp(numberOr(value, name, double(usual), where), 0.0, 1.0));
    };
    key.clears = share("clears", key.clears);
    key.keeps = share("keeps", key.keeps);
    key.spill = share("spill", key.spill);
    return key;
}

json timeValue(const ClipTime& time) {
    json value{{"start", time.start}, {"after", kAfter[std::size_t(time.after)]}, {"own_rate", time.ownRate}};
    if (time.in) value["in"] = *time.in;
    if (time.out) value["out"] = *time.out;
    return value;
}

ClipTime takeTime(const json& value, const std::string& where) {
    ClipTime time;
    time.start = whole(value, "start", where);
    if (value.contains("after")) {
        const std::string after = text(value, "after", where);
        const auto found = std::find(kAfter.begin(), kAfter.end(), after);
        if (found == kAfter.end()) malformed(where + ".after: '" + after + "' is not known");
        time.after = ClipTime::After(found - kAfter.begin());
    }
    time.ownRate = flagOr(value, "own_rate", false, where);
    if (value.contains("in")) time.in = whole(value, "in", where);
    if (value.contains("out")) time.out = whole(value, "out", where);
    return time;
}

}  // namespace pinion
