#include "session/settings.h"

#include <QSettings>

#include <algorithm>

namespace pinion {

Settings readSettings() {
    const QSettings kept;
    const Settings usual;
    return {std::clamp(kept.value("cache_mib", usual.cache_mib).toInt(), 64, 1 << 20),
            std::clamp(kept.value("threads", usual.threads).toInt(), 0, 1024)};
}

void keepSettings(const Settings& settings) {
    QSettings kept;
    kept.setValue("cache_mib", settings.cache_mib);
    kept.setValue("threads", settings.threads);
}

}  // namespace pinion
