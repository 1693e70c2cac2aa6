#include "exchange/opencvlens.h"

#include "base/files.h"
#include "exchange/formats.h"

#include <cmath>
#include <opencv2/core.hpp>

namespace pinion {
namespace {

Expected<Lens> takeOpenCvLens(const cv::FileStorage& file, const std::string& name) {
    cv::Mat camera, distortion;
    int width = 0, height = 0;
    file["image_width"] >> width;
    file["image_height"] >> height;
    // Two names are in use for each.
    for (const char* key : {"camera_matrix", "K", "Camera_Matrix"})
        if (camera.empty() && !file[key].empty()) file[key] >> camera;
    for (const char* key : {"distortion_coefficients", "D", "Distortion_Coefficients"})
        if (distortion.empty() && !file[key].empty()) file[key] >> distortion;
    if (camera.rows != 3 || camera.cols != 3) return failure(Fault::input, "{}: holds no camera_matrix of 3x3", name);
    if (width < 1 || height < 1) return failure(Fault::input, "{}: holds no image_width and image_height", name);
    camera.convertTo(camera, CV_64F);
    distortion.convertTo(distortion, CV_64F);
    for (int i = 5; i < int(distortion.total()); ++i)
        if (distortion.at<double>(i) != 0)
            return failure(
                Fault::input,
                "{}: has {} distortion coefficients (a rational or thin prism model); only k1 k2 p1 p2 k3 are "
                "known here",
                name, distortion.total());
    const auto coefficient = [&](int i) { return i < int(distortion.total()) ? distortion.at<double>(i) : 0.0; };
    Lens lens;
    lens.width = width;
    lens.height = height;
    lens.focal_px = camera.at<double>(1, 1);
    lens.squeeze = camera.at<double>(0, 0) / camera.at<double>(1, 1);
    // Calibrated without saying that pixels are square: the difference is the calibration's error.
    if (std::abs(lens.squeeze - 1) < 0.005) {
        lens.focal_px = 0.5 * (camera.at<double>(0, 0) + camera.at<double>(1, 1));
        lens.squeeze = 1;
    }
    lens.cx = camera.at<double>(0, 2) + 0.5;
    lens.cy = camera.at<double>(1, 2) + 0.5;
    lens.k1 = coefficient(0);
    lens.k2 = coefficient(1);
    lens.p1 = coefficient(2);
    lens.p2 = coefficient(3);
    lens.k3 = coefficient(4);
    if (const auto sound = checkLens(lens); !sound) return failure(Fault::input, "{}: {}", name, sound.error().message);
    return lens;
}

}  // namespace

Expected<std::string> openCvLens(const Lens& lens) {
    if (lens.field)
        return failure(Fault::outcome, "a lens from maps has no coefficients for OpenCV; take lens.json or ST maps");
    return fmt::format(
        "%YAML:1.0\n---\n"
        "# Places count from the centre of the first pixel here.\n"
        "image_width: {}\nimage_height: {}\n"
        "camera_matrix: !!opencv-matrix\n   rows: 3\n   cols: 3\n   dt: d\n"
        "   data: [ {:.17g}, 0., {:.17g}, 0., {:.17g}, {:.17g}, 0., 0., 1. ]\n"
        "distortion_coefficients: !!opencv-matrix\n   rows: 5\n   cols: 1\n   dt: d\n"
        "   data: [ {:.17g}, {:.17g}, {:.17g}, {:.17g}, {:.17g} ]\n",
        lens.width, lens.height, lens.focal_px * lens.squeeze, lens.cx - 0.5, lens.focal_px, lens.cy - 0.5, lens.k1,
        lens.k2, lens.p1, lens.p2, lens.k3);
}

Expected<Lens> readOpenCvLens(const std::filesystem::path& path) {
    const auto contents = readFile(path);
    if (!contents) return tl::unexpected(contents.error());
    try {
        const cv::FileStorage file(*contents, cv::FileStorage::READ | cv::FileStorage::MEMORY);
        if (!file.isOpened()) return failure(Fault::input, "{}: is no calibration that can be read", path.string());
        return takeOpenCvLens(file, path.string());
    } catch (const cv::Exception& problem) {
        return failure(Fault::input, "{}: is no calibration that can be read: {}", path.string(), problem.err);
    }
}

Expected<Lens> readAnyLens(const std::filesystem::path& path) {
    const auto contents = readFile(path);
    if (!contents) return tl::unexpected(contents.error());
    const auto first = contents->find_first_not_of(" \t\r\n\xEF\xBB\xBF");
    const bool isOurs =
        first != std::string::npos && (*contents)[first] == '{' && contents->find("pinion.") != std::string::npos;
    return isOurs ? readLens(path) : readOpenCvLens(path);
}

}  // namespace pinion
