#include "exchange/svg.h"

#include <fmt/format.h>

namespace pinion {
namespace {

using Eigen::Vector2d;

std::string escaped(const std::string& words) {
    std::string out;
    for (const char c : words) {
        if (c == '&') out += "&amp;";
        else if (c == '<') out += "&lt;";
        else if (c == '"') out += "&quot;";
        else out += c;
    }
    return out;
}

std::string pathOf(const Matte::Key& shape) {
    const auto tangent = [](const Polygon& tangents, std::size_t i) {
        return i < tangents.size() ? tangents[i] : Vector2d(0, 0);
    };
    std::string path = fmt::format("M {:.4f} {:.4f}", shape.polygon[0].x(), shape.polygon[0].y());
    const std::size_t count = shape.polygon.size();
    for (std::size_t i = 0; i < count; ++i) {
        const std::size_t next = (i + 1) % count;
        const Vector2d leaving = tangent(shape.out, i), arriving = tangent(shape.in, next), to = shape.polygon[next];
        if (leaving.isZero() && arriving.isZero()) {
            if (next != 0) path += fmt::format(" L {:.4f} {:.4f}", to.x(), to.y());
            continue;
        }
        const Vector2d b = shape.polygon[i] + leaving, c = to + arriving;
        path += fmt::format(" C {:.4f} {:.4f} {:.4f} {:.4f} {:.4f} {:.4f}", b.x(), b.y(), c.x(), c.y(), to.x(), to.y());
    }
    return path + " Z";
}

}  // namespace

std::string mattesSvg(std::span<const Matte> mattes, int frame, int width, int height) {
    std::string svg = fmt::format(
        "<?xml version=\"1.0\" encoding=\"UTF-8\"?>\n<svg xmlns=\"http://www.w3.org/2000/svg\" version=\"1.1\" "
        "width=\"{0}\" height=\"{1}\" viewBox=\"0 0 {0} {1}\">\n  <desc>frame {2}</desc>\n",
        width, height, frame);
    for (std::size_t i = 0; i < mattes.size(); ++i) {
        const Matte& matte = mattes[i];
        const auto shape = shapeAt(matte, frame);
        if (!shape || !isThere(matte, frame)) continue;
        std::string extra;
        if (matte.op != Matte::Op::add)
            extra += fmt::format(" data-op=\"{}\"", matte.op == Matte::Op::subtract ? "subtract" : "intersect");
        if (matte.invert) extra += " data-invert=\"true\"";
        if (matte.feather_px != 0) extra += fmt::format(" data-feather=\"{}\"", matte.feather_px);
        if (matte.grow_px != 0) extra += fmt::format(" data-grow=\"{}\"", matte.grow_px);
        svg += fmt::format(
            "  <path id=\"shape-{}\" fill=\"#{:06x}\" fill-rule=\"evenodd\" d=\"{}\"{}>\n"
            "    <title>{}</title>\n  </path>\n",
            i + 1, matte.colour == 0 ? 0xD9A441 : matte.colour, pathOf(*shape), extra, escaped(matte.name));
    }
    return svg + "</svg>\n";
}

}  // namespace pinion
