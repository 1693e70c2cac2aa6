#include "comp/steadied.h"

#include "base/parallel.h"
#include "steady/motion.h"

#include <Eigen/LU>
#include <algorithm>
#include <cmath>

namespace pinion {
namespace {

using Eigen::Vector2d;

constexpr int kCell = 16;  // pixels: how far rows are moved changes slowly

/// How far places of a frame are moved, worked out at the corners of cells and linear between.
class Shifts {
public:
    Shifts(int width, int height, const std::function<Vector2d(const Vector2d&)>& shiftAt)
        : columns_(width / kCell + 2), rows_(height / kCell + 2), shifts_(std::size_t(columns_) * std::size_t(rows_)) {
        parallelFor(std::size_t(rows_), [&](std::size_t row) {
            for (int column = 0; column < columns_; ++column)
                shifts_[row * std::size_t(columns_) + std::size_t(column)] =
                    shiftAt(Vector2d(column, double(row)) * kCell);
        });
    }
    Vector2d at(const Vector2d& place) const {
        const double u = std::clamp(place.x() / kCell, 0.0, columns_ - 1.0001);
        const double v = std::clamp(place.y() / kCell, 0.0, rows_ - 1.0001);
        const auto column = std::size_t(u), row = std::size_t(v);
        const double a = u - double(column), b = v - double(row);
        const Vector2d* from = &shifts_[row * std::size_t(columns_) + column];
        return (1 - b) * ((1 - a) * from[0] + a * from[1]) + b * ((1 - a) * from[columns_] + a * from[columns_ + 1]);
    }

private:
    int columns_, rows_;
    std::vector<Vector2d> shifts_;
};

BendFilter bendFilterOf(ResampleFilter filter) {
    return filter == ResampleFilter::bilinear  ? BendFilter::bilinear
           : filter == ResampleFilter::lanczos ? BendFilter::lanczos
                                               : BendFilter::bicubic;
}

}  // namespace

LookUp steadying(const FrameMap& map, const RowWarp& rows, int width, int height) {
    const Eigen::Matrix3d& straightFromOutput = map.sourceFromOutput;
    const Shifts shifts(width, height, [&](const Vector2d& output) {
        const Vector2d straight = carried(straightFromOutput, output);
        return Vector2d(rows.filmedFromStraight(map.frame, straight) - straight);
    });
    return lookUpBy({0, 0, width, height}, 1, [&](const Vector2d& output) -> std::optional<Vector2d> {
        return carried(straightFromOutput, output) + shifts.at(output);
    });
}

LookUp unsteadying(const FrameMap& map, const RowWarp& rows, int width, int height) {
    const Eigen::Matrix3d outputFromStraight = map.sourceFromOutput.inverse();
    const Shifts shifts(width, height, [&](const Vector2d& filmed) {
        return Vector2d(rows.straightFromFilmed(map.frame, filmed) - filmed);
    });
    return lookUpBy({0, 0, width, height}, 1, [&](const Vector2d& filmed) -> std::optional<Vector2d> {
        return carried(outputFromStraight, filmed + shifts.at(filmed));
    });
}

std::vector<SheetMap> steadiedSheets(const std::vector<FrameMap>& maps, std::shared_ptr<const RowWarp> rows,
                                     ResampleFilter filter, EdgeMode edges) {
    std::vector<SheetMap> sheets;
    for (const FrameMap& map : maps) {
        if (!rows) {
            sheets.push_back({map.frame,
                              [map, filter, edges](const Picture& plate) {
                                  return warped(plate, map.sourceFromOutput, filter, edges);
                              },
                              [map](const Picture& made, ResampleFilter by, EdgeMode beyond) {
                                  return warped(made, map.sourceFromOutput.inverse(), by, beyond);
                              }});
            continue;
        }
        sheets.push_back(
            {map.frame,
             [map, rows, filter, edges](const Picture& plate) {
                 return bent(plate, steadying(map, *rows, plate.width, plate.height), bendFilterOf(filter), edges);
             },
             // The change and the picture come back by the same table.
             [map, rows, table = std::shared_ptr<const LookUp>()](const Picture& made, ResampleFilter by,
                                                                  EdgeMode beyond) mutable {
                 if (!table) table = std::make_shared<const LookUp>(unsteadying(map, *rows, made.width, made.height));
                 return bent(made, *table, bendFilterOf(by), beyond);
             }});
    }
    return sheets;
}

}  // namespace pinion
