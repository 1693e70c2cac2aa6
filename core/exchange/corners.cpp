#include "exchange/corners.h"

#include "base/json.h"
#include "planar/surface.h"

#include <fmt/format.h>

namespace pinion {

namespace {

constexpr double kFarthest_px = 1e6;

}  // namespace

using namespace jsonfile;

std::string cornersJson(const CornersFile& corners, const std::vector<double>& turns_deg) {
    std::string out = "{\"format\":\"pinion.corners\",\"version\":1,\n\"frames\":[";
    for (std::size_t i = 0; i < corners.size(); ++i) {
        out += fmt::format("{}\n {{\"frame\":{},\"corners\":[", i > 0 ? "," : "", corners[i].frame);
        for (std::size_t k = 0; k < 4; ++k)
            out += fmt::format("{}[{:.5f},{:.5f}]", k > 0 ? "," : "", corners[i].corners[k].x(),
                               corners[i].corners[k].y());
        out += i < turns_deg.size() ? fmt::format("],\"turn_deg\":{:.5f}}}", turns_deg[i]) : "]}";
    }
    return out + "\n]}\n";
}

Expected<CornersFile> readCorners(const std::filesystem::path& path) {
    return parseFile(path, [](const json& document) {
        expectFormat(document, "pinion.corners", 1);
        CornersFile result;
        for (const json& entry : list(document, "frames", "file")) {
            const std::string where = fmt::format("frames[{}]", result.size());
            PlaneTie one;
            one.frame = whole(entry, "frame", where);
            const json& corners = list(entry, "corners", where);
            if (corners.size() != 4)
                malformed(fmt::format("{}.corners: has {} corners; a surface has four", where, corners.size()));
            for (std::size_t i = 0; i < 4; ++i) {
                if (!corners[i].is_array() || corners[i].size() != 2)
                    malformed(where + ".corners: a corner is not a pair of numbers");
                one.corners[i] = {number(corners[i][0], where + ".corners"), number(corners[i][1], where + ".corners")};
                if (one.corners[i].cwiseAbs().maxCoeff() > kFarthest_px)
                    malformed(fmt::format("{}.corners: one lies farther than {:.0f} pixels off", where, kFarthest_px));
            }
            if (const std::string trouble = troubleOf(one.corners); !trouble.empty())
                malformed(fmt::format("{}.corners: {} (top-left, top-right, bottom-right, bottom-left is expected)",
                                      where, trouble));
            if (!result.empty() && one.frame <= result.back().frame)
                malformed(where + ".frame: frames have to rise, each once");
            result.push_back(one);
        }
        if (result.empty()) malformed("frames: the list is empty");
        return result;
    });
}

}  // namespace pinion
