#pragma once

#include "base/fingerprint.h"
#include "camera/options.h"

#include <cstddef>
#include <optional>
#include <span>
#include <string>
#include <vector>

namespace pinion {

/// A choice or a number among the settings of a solve. The shot's file, the key by which a solve is known to be stale,
/// the command line and the card are made from the table of them. What is neither (the base pair, measures from the
/// set, the lens's own file) stands beside it.
struct SolveSetting {
    const char* key;     ///< in the shot's file
    const char* option;  ///< of the command line; null: it has a way of its own
    const char* label;   ///< on the card
    const char* tip;     ///< a sentence of help, for the card and the command line

    // A choice: its words in files and on the command line, and on the card. None: a number.
    std::vector<const char*> words{};
    std::vector<const char*> labels{};
    std::size_t (*chosen)(const SolveSettings&) = nullptr;
    void (*choose)(SolveSettings&, std::size_t) = nullptr;

    // A number, from `least` to `most`.
    double SolveSettings::*number = nullptr;
    double least = 0, most = 0, step = 1;
    int decimals = 2;
    const char* unit = "";

    /// Whether it says anything, the others being as they are; null: always.
    bool (*counts)(const SolveSettings&) = nullptr;
    /// Written and counted only where it differs from the usual, so that a shot solved before it was there stays fresh.
    bool isNew = false;
    /// Adds its value where it counts; null: the number, or the place of the choice.
    void (*addKey)(Fingerprint&, const SolveSettings&) = nullptr;

    bool isChoice() const { return chosen != nullptr; }
    bool isUsual(const SolveSettings& settings) const;
};

enum class SettingId {
    sensorWidth,
    focal,
    distortion,
    focalValue,
    focalSigma,
    axis,
    motion,
    zoom,
    squeeze,
    reading,
    readoutShare,
    readoutSigma,
    readBy
};
std::span<const SolveSetting> solveSettings();  ///< in the order of `SettingId`
const SolveSetting& solveSetting(SettingId id);
/// The place of a choice by its word; none: it is no word of this setting.
std::optional<std::size_t> choiceNamed(const SolveSetting& setting, const std::string& word);
/// "auto, centre or free"
std::string wordsOf(const SolveSetting& setting);

/// Adds one that was always there.
void addSetting(Fingerprint& print, const SolveSettings& settings, SettingId id);
/// Adds all that came later, where they differ from the usual.
void addLaterSettings(Fingerprint& print, const SolveSettings& settings);

}  // namespace pinion
