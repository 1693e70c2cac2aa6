#pragma once

#include "shot/ingredients.h"
#include "shot/shot.h"
#include "shot/stages/report.h"

#include <filesystem>
#include <span>
#include <string>
#include <vector>

namespace pinion {

/// One that every new shot lists. `place` follows the shot's name where `named`.
struct UsualDeliverable {
    const char* name;
    DeliverableFormat format;
    const char* place;
    bool named = true;
};

/// How one kind of deliverable is made. The table of them is all that the window, the command line and the shot's file
/// know of kinds: a new one is a new row.
struct DeliverableRow {
    DeliverableKind kind;
    const char* what;   ///< in messages: "a camera is"
    const char* about;  ///< what is in it, for whoever gets it
    std::vector<DeliverableFormat> formats;
    std::vector<UsualDeliverable> usual;

    /// The whole text, for a file or the clipboard; null for what is no text.
    Expected<std::string> (*text)(const Shot&, const Deliverable&) = nullptr;
    /// Writes what is no text to `path` (a folder, or the pattern of a sequence), reads it back, and gives the files;
    /// null for text.
    Expected<std::vector<std::filesystem::path>> (*write)(const Shot&, const Deliverable&,
                                                          const std::filesystem::path& path) = nullptr;
    /// Reads a written text again and compares it with the shot; null where there is nothing beyond the letters.
    Expected<void> (*check)(const Shot&, const Deliverable&, const std::filesystem::path& path) = nullptr;
    /// Adds what the deliverable depends on.
    void (*addKey)(Fingerprint&, const Shot&, const Deliverable&) = nullptr;
};

std::span<const DeliverableRow> deliverableRows();
const DeliverableRow& deliverableRow(DeliverableKind kind);

/// The text of one deliverable that is a file of text: for a file or the clipboard.
Expected<std::string> deliverableText(const Shot& shot, const Deliverable& deliverable);

/// What a delivery depends on: when it differs from the one that was written, the delivery is stale.
std::uint64_t deliveryKey(const Shot& shot, const Deliverable& deliverable);

StageReport deliveryReport(const Shot& shot);

}  // namespace pinion
