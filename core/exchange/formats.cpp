#include "exchange/formats.h"
#include "base/files.h"

#include "base/units.h"
#include "base/json.h"
#include "base/utf8.h"
#include "lens/lensjson.h"
#include "matte/mattejson.h"

#include <charconv>
#include <map>
#include <set>
#include <sstream>

namespace pinion {
namespace {

using namespace jsonfile;

Origin knownOrigin(const std::string& word, const std::string& where) {
    const auto origin = originFrom(word);
    if (!origin) malformed(where + ": '" + word + "' is not known; top-left or bottom-left is expected");
    return *origin;
}

std::string at(const char* list, std::size_t index) { return fmt::format("{}[{}]", list, index); }

json lensObject(const Lens& lens) {
    json object{{"format", "pinion.lens"}, {"version", 1}};
    object.update(lensValues(lens));
    return object;
}

/// A field's thousands of values are not to stand on a line each.
int indentOf(const Lens& lens) { return lens.field ? -1 : 1; }

Lens takeLens(const json& document, const std::string& where) {
    expectFormat(document, "pinion.lens", 1);
    return takeLensValues(document, where);
}

}  // namespace

Expected<PointList> readPoints(const std::filesystem::path& path) {
    return parseFile(path, [](const json& document) {
        expectFormat(document, "pinion.points", 1);
        PointList result;
        result.referenceFrame = whole(document, "reference_frame", "file");
        std::set<std::string> names;
        for (std::size_t i = 0; const json& point : list(document, "points", "file")) {
            const std::string where = at("points", i++);
            const std::string name = text(point, "name", where);
            if (!names.insert(name).second) malformed(where + ": the name '" + name + "' is there twice");
            PointList::Point taken{name, {number(point, "x", where), number(point, "y", where)}, std::nullopt, {}};
            const auto pair = [](const json& value, const std::string& place) -> Eigen::Vector2d {
                if (!value.is_array() || value.size() != 2) malformed(place + ": is not a pair of numbers");
                return {number(value[0], place), number(value[1], place)};
            };
            if (point.contains("wanted")) taken.wanted = pair(point["wanted"], where + ".wanted");
            if (point.contains("outline"))
                for (const json& corner : list(point, "outline", where))
                    taken.outline.push_back(pair(corner, where + ".outline"));
            if (!taken.outline.empty() && taken.outline.size() < 3)
                malformed(where + ".outline: has fewer than three corners");
            result.points.push_back(std::move(taken));
        }
        if (result.points.empty()) malformed("points: the list is empty");
        return result;
    });
}

Eigen::Vector2d deliveredPlace(const Sample& sample, Origin origin, int height) {
    const Eigen::Vector2d place = sample.wanted();
    return origin == Origin::topLeft ? place : Eigen::Vector2d(place.x(), height - place.y());
}

/// RFC 4180: a field with a comma or a quote is quoted.
std::string csvField(const std::string& text) {
    // A '#' in front would make a comment of the row.
    if (text.find_first_of(",\"\n\r") == std::string::npos && !text.starts_with('#')) return text;
    std::string quoted = "\"";
    for (char c : text) quoted += c == '"' ? std::string("\"\"") : std::string(1, c);
    return quoted + "\"";
}

std::string tracksJson(const TrackFile& file, Origin origin) {
    json header{{"format", "pinion.tracks"}, {"version", 1}, {"width", file.width}, {"height", file.height}};
    putRate(header, file.fps);
    putTimes(header, file.times);
    if (origin == Origin::bottomLeft) header["origin"] = toString(origin);
    const auto placed = [&](const Sample& sample) { return deliveredPlace(sample, origin, file.height); };
    // Written as text, a line a sample: a long plate has a million of them, and a tree of them would take half a
    // gigabyte.
    std::string out = dumped(header);
    out.pop_back();
    out += ",\n\"tracks\":[";
    std::size_t samples = 0;
    for (const Track& track : file.tracks) samples += track.samples.size();
    out.reserve(out.size() + samples * 64 + file.tracks.size() * 64);
    for (std::size_t i = 0; i < file.tracks.size(); ++i) {
        const Track& track = file.tracks[i];
        out += fmt::format("{}\n{{\"name\":{},{}\"samples\":[", i > 0 ? "," : "", dumped(json(track.name)),
                           track.setAside ? "\"set_aside\":true," : "");
        for (std::size_t k = 0; k < track.samples.size(); ++k) {
            const Sample& sample = track.samples[k];
            const Eigen::Vector2d place = placed(sample);
            out += fmt::format("{}\n {{\"frame\":{},\"x\":{:.4f},\"y\":{:.4f},\"score\":{:.4f}{}}}", k > 0 ? "," : "",
                               sample.frame, place.x(), place.y(), sample.score,
                               sample.bridged ? ",\"bridged\":true" : "");
        }
        out += "]}";
    }
    return out + "]}\n";
}

Expected<TrackFile> readTracks(const std::filesystem::path& path) {
    if (loweredEnding(path) == ".csv") {
        const auto contents = readFile(path);
        if (!contents) return tl::unexpected(contents.error());
        return parseTracksCsv(*contents, path.string());
    }
    return parseFile(path, [](const json& document) {
        expectFormat(document, "pinion.tracks", 1);
        TrackFile result;
        result.width = whole(document, "width", "file");
        result.height = whole(document, "height", "file");
        result.fps = takeRate(document, "file");
        result.times = takeTimes(document, "file");
        const bool fromBottom = document.contains("origin") &&
                                knownOrigin(text(document, "origin", "file"), "file.origin") == Origin::bottomLeft;
        for (std::size_t i = 0; const json& entry : list(document, "tracks", "file")) {
            const std::string where = at("tracks", i++);
            Track track;
            track.id = TrackId(i);
            track.name = text(entry, "name", where);
            track.setAside = flagOr(entry, "set_aside", false, where);
            std::vector<Sample> samples;
            for (std::size_t k = 0; const json& sample : list(entry, "samples", where)) {
                const std::string place = where + "." + at("samples", k++);
                Sample taken{.frame = whole(sample, "frame", place),
                             .at = {number(sample, "x", place), number(sample, "y", place)}};
                taken.score = numberOr(sample, "score", 1.0, place);
                taken.bridged = flagOr(sample, "bridged", false, place);
                if (fromBottom) taken.at.y() = result.height - taken.at.y();
                if (!samples.empty() && taken.frame <= samples.back().frame)
                    malformed(place + ".frame: frames have to rise, each once");
                samples.push_back(taken);
            }
            if (!samples.empty()) track.referenceFrame = samples.front().frame;
            track.samples = List<Sample>(std::move(samples));
            result.tracks.push_back(std::move(track));
        }
        return result;
    });
}

std::string tracksCsv(const TrackFile& file, Origin origin) {
    int first = 0, last = 0;
    std::size_t samples = 0;
    bool bridged = false;
    for (const Track& track : file.tracks) {
        if (track.samples.isEmpty()) continue;
        samples += track.samples.size();
        for (const Sample& sample : track.samples) bridged = bridged || sample.bridged;
        first = first == 0 ? track.firstFrame() : std::min(first, track.firstFrame());
        last = std::max(last, track.lastFrame());
    }
    std::string csv = fmt::format(
        "# pinion.tracks version=1 width={} height={} fps={} first_frame={} last_frame={} "
        "origin={} samples={}\ntrack,frame,x,y,score{}\n",
        file.width, file.height, toString(file.fps), first, last, toString(origin), samples, bridged ? ",bridged" : "");
    for (const Track& track : file.tracks) {
        const std::string name = csvField(track.name);
        for (const Sample& sample : track.samples) {
            const Eigen::Vector2d place = deliveredPlace(sample, origin, file.height);
            csv += fmt::format("{},{},{:.4f},{:.4f},{:.4f}{}\n", name, sample.frame, place.x(), place.y(), sample.score,
                               !bridged         ? ""
                               : sample.bridged ? ",1"
                                                : ",0");
        }
    }
    return csv;
}

namespace {

/// The next record: a line, or several where a quoted field holds line breaks (RFC 4180). `lines` counts them.
bool nextRecord(std::istream& in, std::string& record, int& lines) {
    record.clear();
    std::size_t quotes = 0;
    for (std::string row; std::getline(in, row);) {
        ++lines;
        record += (record.empty() ? "" : "\n") + row;
        quotes += std::size_t(std::count(row.begin(), row.end(), '"'));
        if (quotes % 2 == 0) return true;
    }
    return !record.empty();
}

/// The fields of one record (RFC 4180).
std::vector<std::string> csvFields(const std::string& line) {
    std::vector<std::string> fields(1);
    bool quoted = false;
    for (std::size_t i = 0; i < line.size(); ++i) {
        const char c = line[i];
        if (quoted) {
            if (c == '"' && i + 1 < line.size() && line[i + 1] == '"') fields.back() += line[++i];
            else if (c == '"') quoted = false;
            else fields.back() += c;
        } else if (c == '"' && fields.back().empty()) {
            quoted = true;
        } else if (c == ',') {
            fields.emplace_back();
        } else if (c != '\r') {
            fields.back() += c;
        }
    }
    return fields;
}

double csvNumber(const std::string& field, const std::string& where) {
    double value = 0;
    const auto [end, result] = std::from_chars(field.data(), field.data() + field.size(), value);
    if (result != std::errc() || end != field.data() + field.size()) {
        const bool comma = field.find(',') != std::string::npos;
        malformed(where + ": '" + field + "' is not a number" + (comma ? "; write decimals with a point" : ""));
    }
    if (!std::isfinite(value)) malformed(where + ": '" + field + "' is not a finite number");
    return value;
}

}  // namespace

Expected<TrackFile> parseTracksCsv(const std::string& bytes, const std::string& name) try {
    // A byte order mark is no part of the first column's name; what is no UTF-8 comes from an older program.
    const std::string contents = asUtf8(bytes.starts_with("\xEF\xBB\xBF") ? bytes.substr(3) : bytes);
    TrackFile result;
    std::map<std::string, std::size_t> columns;
    std::vector<std::pair<std::string, std::map<int, Sample>>> tracks;
    std::map<std::string, std::size_t> byName;
    bool fromBottom = false;
    std::optional<double> expected;  // samples, as the file's own first line says
    std::size_t count = 0;
    int lines = 0;
    std::istringstream in(contents);
    for (std::string row; nextRecord(in, row, lines);) {
        const std::string where = fmt::format("line {}", lines);
        if (row.empty() || row == "\r") continue;
        // Before the columns are named; after that a '#' begins a name.
        if (row.front() == '#' && columns.empty()) {
            std::istringstream words(row);
            for (std::string word; words >> word;) {
                const auto cut = word.find('=');
                if (cut == std::string::npos) continue;
                const std::string key = word.substr(0, cut), value = word.substr(cut + 1);
                if (key == "width") result.width = int(csvNumber(value, where + ", width"));
                if (key == "height") result.height = int(csvNumber(value, where + ", height"));
                if (key == "origin") fromBottom = knownOrigin(value, where + ", origin") == Origin::bottomLeft;
                if (key == "samples") expected = csvNumber(value, where + ", samples");
                if (key == "version" && value != "1")
                    malformed(where + ": version " + value + " is not known; 1 is expected");
                if (key == "fps") {
                    const auto rate = parseFrameRate(value);
                    if (!rate) malformed(where + ", fps: " + rate.error().message);
                    result.fps = *rate;
                }
            }
            continue;
        }
        const auto fields = csvFields(row);
        if (columns.empty()) {
            for (std::size_t i = 0; i < fields.size(); ++i) columns[fields[i]] = i;
            for (const char* needed : {"track", "frame", "x", "y"})
                if (!columns.contains(needed))
                    malformed(fmt::format(
                        "{}: the column '{}' is missing{}; the first line has to name track, frame, x, y", where,
                        needed,
                        row.find(';') != std::string::npos ? " (fields are parted by ';', a comma is expected)" : ""));
            continue;
        }
        const auto field = [&](const char* column) -> const std::string& {
            const std::size_t index = columns.at(column);
            if (index >= fields.size())
                malformed(fmt::format("{}: has {} fields, the column '{}' is missing", where, fields.size(), column));
            return fields[index];
        };
        if (fields.size() > columns.size())
            malformed(
                fmt::format("{}: has {} fields where {} are named; decimals are written with a point, and a name with "
                            "a comma in quotes",
                            where, fields.size(), columns.size()));
        const double frame = csvNumber(field("frame"), where + ", frame");
        if (frame != std::floor(frame) || std::abs(frame) > 1e9) malformed(where + ", frame: is not a whole number");
        Sample sample{.frame = int(frame),
                      .at = {csvNumber(field("x"), where + ", x"), csvNumber(field("y"), where + ", y")}};
        if (columns.contains("score")) sample.score = csvNumber(field("score"), where + ", score");
        if (columns.contains("bridged")) sample.bridged = csvNumber(field("bridged"), where + ", bridged") != 0;
        ++count;
        const auto [found, fresh] = byName.emplace(field("track"), tracks.size());
        if (fresh) tracks.push_back({field("track"), {}});
        if (!tracks[found->second].second.emplace(sample.frame, sample).second)
            malformed(fmt::format("{}: track '{}' has frame {} twice", where, field("track"), sample.frame));
    }
    if (columns.empty()) malformed("the file is empty; the first line has to name track, frame, x, y");
    if (expected && (double(count) != *expected || !contents.ends_with('\n')))
        malformed(fmt::format("holds {} samples where its first line says {:.0f}: it was cut off or changed", count,
                              *expected));
    if (tracks.empty()) malformed("the file holds no samples");
    if (fromBottom && result.height <= 0) malformed("the origin is bottom-left, but the height is not said");
    for (auto& [trackName, samples] : tracks) {
        Track track;
        track.id = TrackId(result.tracks.size() + 1);
        track.name = trackName;
        std::vector<Sample> list;
        for (auto& [frame, sample] : samples) {
            if (fromBottom) sample.at.y() = result.height - sample.at.y();
            list.push_back(sample);
        }
        track.referenceFrame = list.front().frame;
        track.samples = List<Sample>(std::move(list));
        result.tracks.push_back(std::move(track));
    }
    return result;
} catch (const Malformed& error) {
    return failure(Fault::input, "{}: {}", name, error.what);
}

std::string lensJson(const Lens& lens) { return dumped(lensObject(lens), indentOf(lens)) + "\n"; }

Expected<Lens> readLens(const std::filesystem::path& path) {
    return parseFile(path, [](const json& document) { return takeLens(document, "lens"); });
}

std::string linesJson(const std::vector<StraightLine>& lines) {
    json document{{"format", "pinion.lines"}, {"version", 1}, {"lines", json::array()}};
    for (const StraightLine& line : lines) {
        json points = json::array();
        for (const Eigen::Vector2d& p : line.points) points.push_back({p.x(), p.y()});
        document["lines"].push_back({{"frame", line.frame}, {"points", points}});
    }
    return dumped(document) + "\n";
}

Expected<std::vector<StraightLine>> readLines(const std::filesystem::path& path) {
    return parseFile(path, [](const json& document) {
        expectFormat(document, "pinion.lines", 1);
        std::vector<StraightLine> lines;
        for (const json& entry : list(document, "lines", "file")) {
            const std::string where = at("lines", lines.size());
            StraightLine line{whole(entry, "frame", where), {}};
            for (const json& point : list(entry, "points", where)) {
                const std::string place = where + "." + at("points", line.points.size());
                if (!point.is_array() || point.size() != 2) malformed(place + ": is not a pair of numbers");
                line.points.emplace_back(number(point[0], place), number(point[1], place));
            }
            lines.push_back(std::move(line));
        }
        return lines;
    });
}

Expected<std::vector<Matte>> readMattes(const std::filesystem::path& path) {
    return parseFile(path, [&path](const json& document) {
        expectFormat(document, "pinion.mattes", 1);
        return takeMattes(list(document, "shapes", "file"), "shapes", path);
    });
}

Expected<std::vector<Matte>> mattesFromJson(const std::string& contents, const std::string& name) {
    return parseText(contents, name, [](const json& document) {
        expectFormat(document, "pinion.mattes", 1);
        return takeMattes(list(document, "shapes", "text"), "shapes", {});
    });
}

std::string mattesJson(std::span<const Matte> mattes) {
    std::vector<Matte> shapes(mattes.begin(), mattes.end());
    for (Matte& matte : shapes) matte.id = 0;  // is a shot's own affair
    return dumped({{"format", "pinion.mattes"}, {"version", 1}, {"shapes", mattesValue(shapes)}}, 1) + "\n";
}

std::string cameraJson(const CameraFile& file) {
    json document{{"format", "pinion.camera"},
                  {"version", 1},
                  {"width", file.width},
                  {"height", file.height},
                  {"sensor_width_mm", file.sensorWidth_mm},
                  {"lens", lensObject(file.lens)}};
    putRate(document, file.fps);
    putTimes(document, file.times);
    json& frames = document["frames"] = json::array();
    for (const CameraFile::Frame& frame : file.frames) {
        json matrix = json::array();
        for (int r = 0; r < 4; ++r)
            for (int c = 0; c < 4; ++c) matrix.push_back(frame.worldFromCamera.matrix()(r, c));
        frames.push_back({{"frame", frame.frame},
                          {"world_from_camera", std::move(matrix)},
                          {"focal_px", frame.focal_px},
                          {"focal_mm", focalMillimetres(frame.focal_px, file.sensorWidth_mm, file.width)}});
        if (file.zoom) frames.back()["k1"] = frame.k1;
    }
    json& points = document["points"] = json::array();
    for (const CameraFile::Point& point : file.points)
        points.push_back({{"name", point.name}, {"xyz", {point.xyz.x(), point.xyz.y(), point.xyz.z()}}});
    for (const CameraFile::Point& point : file.directions)
        document["directions"].push_back(
            {{"name", point.name}, {"xyz", {point.xyz.x(), point.xyz.y(), point.xyz.z()}}});
    document["solve"] = {{"rms_px", file.rms_px},
                         {"held_out_rms_px", file.heldOutRms_px},
                         {"tracks", file.tracks},
                         {"frames", file.frames.size()},
                         {"motion", file.motion}};
    if (file.focalDeviation_mm > 0) document["solve"]["focal_deviation_mm"] = file.focalDeviation_mm;
    if (file.readout.isRolling()) {
        document["solve"]["readout"] = file.readout.share;
        if (file.readout.columns) document["solve"]["read_by"] = "columns";
    }
    if (!file.doubt.empty()) document["solve"]["doubt"] = file.doubt;
    return dumped(document, indentOf(file.lens)) + "\n";
}

Expected<CameraFile> readCamera(const std::filesystem::path& path) {
    return parseFile(path, [](const json& document) {
        expectFormat(document, "pinion.camera", 1);
        CameraFile file;
        file.width = whole(document, "width", "file");
        file.height = whole(document, "height", "file");
        file.fps = takeRate(document, "file");
        file.times = takeTimes(document, "file");
        file.sensorWidth_mm = number(document, "sensor_width_mm", "file");
        file.lens = takeLens(member(document, "lens", "file"), "lens");
        for (std::size_t i = 0; const json& entry : list(document, "frames", "file")) {
            const std::string where = at("frames", i++);
            const json& matrix = list(entry, "world_from_camera", where);
            if (matrix.size() != 16) malformed(where + ".world_from_camera: has not 16 numbers");
            CameraFile::Frame frame{whole(entry, "frame", where), Eigen::Isometry3d::Identity(),
                                    number(entry, "focal_px", where)};
            for (int r = 0; r < 4; ++r)
                for (int c = 0; c < 4; ++c)
                    frame.worldFromCamera.matrix()(r, c) =
                        number(matrix[std::size_t(r * 4 + c)], where + ".world_from_camera");
            const Eigen::Matrix3d turn = frame.worldFromCamera.linear();
            if (!(turn * turn.transpose()).isIdentity(1e-4)) malformed(where + ".world_from_camera: is no rotation");
            if (!(frame.focal_px > 0)) malformed(where + ".focal_px: has to be above 0");
            if (!file.frames.empty() && frame.frame <= file.frames.back().frame)
                malformed(where + ".frame: frames have to rise, each once");
            if (entry.contains("k1")) {
                file.zoom = true;
                frame.k1 = number(entry, "k1", where);
            }
            file.frames.push_back(frame);
        }
        if (file.frames.empty()) malformed("frames: the list is empty");
        const auto takePoints = [&](const char* name, std::vector<CameraFile::Point>& points) {
            for (std::size_t i = 0; const json& entry : list(document, name, "file")) {
                const std::string where = at(name, i++);
                const json& xyz = list(entry, "xyz", where);
                if (xyz.size() != 3) malformed(where + ".xyz: has not 3 numbers");
                points.push_back({text(entry, "name", where),
                                  {number(xyz[0], where), number(xyz[1], where), number(xyz[2], where)}});
            }
        };
        takePoints("points", file.points);
        if (document.contains("directions")) takePoints("directions", file.directions);
        const json& solve = member(document, "solve", "file");
        file.rms_px = number(solve, "rms_px", "solve");
        file.heldOutRms_px = numberOr(solve, "held_out_rms_px", 0, "solve");
        file.tracks = whole(solve, "tracks", "solve");
        if (solve.contains("motion")) file.motion = text(solve, "motion", "solve");
        file.focalDeviation_mm = numberOr(solve, "focal_deviation_mm", 0, "solve");
        if (solve.contains("doubt")) file.doubt = text(solve, "doubt", "solve");
        file.readout = {numberOr(solve, "readout", 0, "solve"), textOr(solve, "read_by", "rows", "solve") == "columns"};
        if (!(std::abs(file.readout.share) <= 1)) malformed("solve.readout: has to be from -1 to 1");
        return file;
    });
}

}  // namespace pinion
