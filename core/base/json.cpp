#include "base/json.h"

#include <algorithm>
#include <cmath>

namespace pinion::jsonfile {

void malformed(const std::string& what) { throw Malformed{what}; }

std::string dumped(const json& value, int indent) {
    return value.dump(indent, ' ', false, json::error_handler_t::replace);
}

void makeFinite(json& value) {
    if (value.is_number_float()) {
        const double number = value.get<double>();
        if (std::isnan(number)) value = 0.0;
        else if (std::isinf(number)) value = number > 0 ? 1e300 : -1e300;
    } else if (value.is_structured()) {
        for (json& part : value) makeFinite(part);
    }
}

const json& member(const json& object, const char* name, const std::string& where) {
    if (!object.is_object()) malformed(where + ": is not an object");
    const auto found = object.find(name);
    if (found == object.end()) malformed(where + ": '" + name + "' is missing");
    return *found;
}

double number(const json& value, const std::string& where) {
    if (!value.is_number()) malformed(where + ": is not a number");
    const double result = value.get<double>();
    if (!std::isfinite(result)) malformed(where + ": is not a finite number");
    return result;
}

double number(const json& object, const char* name, const std::string& where) {
    return number(member(object, name, where), where + "." + name);
}

int whole(const json& value, const std::string& where) {
    const double found = number(value, where);
    if (found != std::floor(found) || std::abs(found) > 1e9) malformed(where + ": is not a whole number");
    return int(found);
}

int whole(const json& object, const char* name, const std::string& where) {
    return whole(member(object, name, where), where + "." + name);
}

std::uint64_t key(const json& object, const char* name, const std::string& where) {
    const json& value = member(object, name, where);
    if (!value.is_number_unsigned() && !(value.is_number_integer() && value.get<std::int64_t>() >= 0))
        malformed(where + "." + name + ": is not a key");
    return value.get<std::uint64_t>();
}

bool flagOr(const json& object, const char* name, bool otherwise, const std::string& where) {
    if (!object.contains(name)) return otherwise;
    if (!object[name].is_boolean()) malformed(where + "." + name + ": is neither true nor false");
    return object[name].get<bool>();
}

std::string text(const json& object, const char* name, const std::string& where) {
    const json& value = member(object, name, where);
    if (!value.is_string()) malformed(where + "." + name + ": is not a text");
    return value.get<std::string>();
}

std::string textOr(const json& object, const char* name, const std::string& otherwise, const std::string& where) {
    return object.contains(name) ? text(object, name, where) : otherwise;
}

const json& list(const json& object, const char* name, const std::string& where) {
    const json& value = member(object, name, where);
    if (!value.is_array()) malformed(where + "." + name + ": is not a list");
    return value;
}

double numberOr(const json& object, const char* name, double otherwise, const std::string& where) {
    return object.is_object() && object.contains(name) ? number(object, name, where) : otherwise;
}

void expectFormat(const json& document, const char* format, int version) {
    if (!document.is_object()) malformed("the file is not a JSON object");
    const std::string found = text(document, "format", "file");
    if (found != format) malformed("its format is '" + found + "', '" + format + "' is expected");
    const int foundVersion = whole(document, "version", "file");
    if (foundVersion != version)
        malformed("its version is " + std::to_string(foundVersion) + ", this program reads version " +
                  std::to_string(version) + (foundVersion > version ? "; it was written by a newer one" : ""));
}

void putRate(json& document, FrameRate rate) {
    document["fps"] = rate.denominator == 1 ? json(rate.numerator) : json(rate.perSecond());
    document["fps_fraction"] = toString(rate);
}

FrameRate takeRate(const json& document, const std::string& where) {
    if (document.contains("fps_fraction")) {
        const auto rate = parseFrameRate(text(document, "fps_fraction", where));
        if (!rate) malformed(where + ".fps_fraction: " + rate.error().message);
        return *rate;
    }
    const json& fps = member(document, "fps", where);
    if (fps.is_string()) {
        const auto rate = parseFrameRate(fps.get<std::string>());
        if (!rate) malformed(where + ".fps: " + rate.error().message);
        return *rate;
    }
    const double rate = number(fps, where + ".fps");
    if (!(rate > 0 && rate < 100000)) malformed(where + ".fps: is not a frame rate");
    return frameRateNear(rate);
}

void putTimes(json& document, const FrameTimes& times) {
    if (!times.seconds.isEmpty())
        document["frame_times"] = {{"first_frame", times.firstFrame}, {"seconds", times.seconds.vector()}};
}

FrameTimes takeTimes(const json& document, const std::string& where) {
    FrameTimes times;
    if (!document.contains("frame_times")) return times;
    const json& entry = document["frame_times"];
    const std::string here = where + ".frame_times";
    times.firstFrame = whole(entry, "first_frame", here);
    std::vector<double> seconds;
    for (std::size_t i = 0; const json& value : list(entry, "seconds", here)) {
        const std::string place = here + ".seconds[" + std::to_string(i++) + "]";
        const double second = number(value, place);
        if (std::abs(second) > 1e9 || (!seconds.empty() && second < seconds.back()))
            malformed(place + ": frames are shown one after the other, within 30 years");
        seconds.push_back(second);
    }
    times.seconds = std::move(seconds);
    return times;
}

Expected<void> lookInto(const std::string& contents, const std::string& name,
                        const std::function<void(const json&)>& take) {
    try {
        take(json::parse(contents));
        return {};
    } catch (const Malformed& error) {
        return failure(Fault::input, "{}: {}", name, error.what);
    } catch (const json::parse_error& error) {
        const std::size_t line =
            1 + std::size_t(std::count(contents.begin(),
                                       contents.begin() + std::ptrdiff_t(std::min(error.byte, contents.size())), '\n'));
        if (error.byte >= contents.size())
            return failure(Fault::input, "{}: breaks off at line {}; the file is cut off", name, line);
        return failure(Fault::input, "{}: is no valid JSON near line {}", name, line);
    } catch (const json::out_of_range& error) {
        // The library ends at the number and names it between apostrophes.
        const std::string words = error.what();
        const auto first = words.find('\''), last = words.rfind('\'');
        return failure(
            Fault::input, "{}: a number in it is too large: {}", name,
            first < last ? words.substr(first + 1, std::min<std::size_t>(last - first - 1, 40)) : "beyond 1e308");
    } catch (const std::exception&) {
        // What the readers above did not foresee; the library's own words help nobody.
        return failure(Fault::input, "{}: a value in it is of another kind than expected, or too large", name);
    }
}

}  // namespace pinion::jsonfile
