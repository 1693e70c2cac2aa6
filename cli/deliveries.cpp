#include "deliveries.h"

#include "jobs/places.h"

namespace pinion::cli {

Expected<void> checkDeliveries(const Shot& shot, const std::filesystem::path& folder, const std::string& shotPath,
                               bool outside, const std::string& only) {
    auto checked = checkPlaces(shot, folder, shotPath, outside,
                               only.empty() ? std::vector<std::string>{} : std::vector<std::string>{only});
    if (!checked && !outside && checkPlaces(shot, folder, shotPath, true))
        checked.error().message += "; --allow-outside writes it there all the same";
    return checked;
}

}  // namespace pinion::cli
