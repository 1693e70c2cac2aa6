#pragma once

#include "picture/pyramid.h"
#include "planar/region.h"
#include "planar/surfacepose.h"

#include <Eigen/Core>
#include <array>
#include <memory>
#include <optional>
#include <vector>

namespace pinion {

/// Seen more from the side than that (the cosine), a place of a cylinder says nothing: 75 degrees.
inline constexpr double kLeastFacing = 0.26;

/// What a plane looks like on its reference frame, made ready for alignment: the pixels of its region on one level of
/// the pyramid, block after block, those of one cell together. `u` and `v` are region coordinates: pixels of the
/// undistorted picture from the region's centre, over its half size. A source's detail; the alignment is the interface.
struct TextureLevel {
    struct Block {
        int first, count;  ///< pixels
        int block;         ///< which of the region's
        float texture;     ///< sum of the squared gradients, in levels a pixel of the level
    };
    struct Cell {
        int firstBlock, blocks;
        int first, count;  ///< pixels
        int cell;
        float u, v, half;  ///< its middle and half its size, region coordinates
    };
    std::vector<float> u, v, value;
    std::vector<float> gx, gy;      ///< per unit of u, v
    std::vector<float> slope2;      ///< squared gradient, levels a pixel of the level
    std::vector<float> xx, xy, yy;  ///< second derivatives, per pixel of the level squared
    std::vector<Block> blocks;
    std::vector<Cell> cells;
    /// Of a cylinder, for each pixel (see planekernels::Body): its point, its normal, its turned gradient.
    std::array<std::vector<float>, 9> body;
    int count() const { return int(u.size()); }
};

/// The region's texture on all levels, and how it would look through more blur. Not safe to call from several threads.
class PlaneTexture {
public:
    /// None when less than 40 pixels of the region lie in the frame, and on the cylinder if there is one.
    static std::optional<PlaneTexture> create(const Pyramid& reference, const PlaneRegion& region,
                                              const PlaneExclusion& excluded = {}, SurfaceGeometry geometry = {});

    const PlaneLens& lens() const { return geometry_.lens; }
    const SurfaceGeometry& geometry() const { return geometry_; }
    const std::optional<Cylinder>& cylinder() const { return geometry_.cylinder; }
    /// Of a cylinder: the middle of its pixels' points, in the reference camera's space.
    const Eigen::Vector3d& centre() const { return bodyCentre_; }
    int levels() const { return int(crops_.size()); }

    /// Blurred by a Gaussian of that covariance (pixels of the level squared; the same on each level).
    const TextureLevel& level(int level, const Eigen::Matrix2d& blur);

    const PlaneBox& box() const { return box_; }
    /// From region coordinates to pixels of the undistorted picture.
    Eigen::Matrix3d plateFromRegion() const;
    double half() const { return half_; }
    int blockCount() const { return blocksAcross_ * blocksDown_; }
    int cellCount() const { return cellsAcross_ * cellsDown_; }
    /// The middle of a block, in pixels of the plate.
    Eigen::Vector2d blockCentre(int block) const;
    /// The block of a place of the plate; none outside the region's box.
    std::optional<int> blockAt(const Eigen::Vector2d& place) const;

    /// Whether any pixel of the region lies in it.
    bool holdsBlock(int block) const { return held_[std::size_t(block)] != 0; }

    /// Corners (Shi and Tomasi 1994) inside the region, in pixels of the plate.
    const std::vector<Eigen::Vector2d>& features() const { return features_; }

private:
    struct Crop {
        ImageChannel plane;  ///< of the level, with a margin
        int left, top;
        std::vector<std::uint8_t> holds;  ///< 1 where the pixel is in the region
        std::vector<float> edge;          ///< how far it is from the region's border, pixels of the level
        struct Place {
            int x, y, block, cell;
            float edge, u, v;
        };
        std::vector<Place> places;  ///< that count, by cell and block
        double spared = 0;          ///< so far from the border lies a good half of them
    };
    struct Made {
        int level;
        std::array<int, 3> blur;
        std::unique_ptr<TextureLevel> texture;
    };
    void choosePlaces(Crop& crop, int level) const;
    TextureLevel make(const Crop& crop, int level, const Eigen::Matrix2d& blur) const;
    void findFeatures();

    void placeOnBody(TextureLevel& level) const;
    void findCentre();

    SurfaceGeometry geometry_;
    PlaneBox box_;  ///< of the region, within the frame
    double half_ = 1;
    Eigen::Vector2d centre_{0, 0};
    Eigen::Vector3d bodyCentre_{0, 0, 0};
    double blockSize_ = 8;
    int blocksAcross_ = 0, blocksDown_ = 0, cellsAcross_ = 0, cellsDown_ = 0;
    std::vector<char> held_;  ///< of each block, 1 where it has pixels
    std::vector<Crop> crops_;
    std::vector<Made> made_;
    std::vector<Eigen::Vector2d> features_;
};

/// A plane of pixels through a Gaussian of that covariance.
ImageChannel blurred(const ImageChannel& plane, const Eigen::Matrix2d& covariance);

}  // namespace pinion
