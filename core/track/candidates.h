#pragma once

#include "matte/matte.h"
#include "picture/pyramid.h"

#include <Eigen/Core>
#include <span>
#include <vector>

namespace pinion {

struct CandidateOptions {
    /// How many to find at most.
    int features = 500;

    /// Least distance between two candidates, in pixels. Larger spreads them and avoids two tracks of one feature.
    double leastDistance_px = 16.0;

    /// The weakest corner taken, as a share of the strongest in the frame. Lower reaches into dull areas (sky, water),
    /// whose tracks are short.
    double threshold = 0.01;

    /// Distance kept from the border, so that the pattern fits.
    int border_px = 16;
};

struct Candidate {
    Eigen::Vector2d at;
    double strength;  ///< the smaller eigenvalue of the gradient matrix, grey levels squared a pixel
};

/// Corners worth tracking (Shi and Tomasi 1994), the strongest of every part of the frame first, so that the frame is
/// covered before any part is filled. `taken` are places already tracked; `mattes` are asked at `frame`.
std::vector<Candidate> findCandidates(const Pyramid& pyramid, const CandidateOptions& options,
                                      std::span<const Eigen::Vector2d> taken = {}, std::span<const Matte> mattes = {},
                                      int frame = 0);

}  // namespace pinion
