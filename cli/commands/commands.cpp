#include "commands/command.h"

#include <iterator>

namespace pinion::cli {

Runner addInfo(CLI::App& command);
Runner addTrack(CLI::App& command);
Runner addScatter(CLI::App& command);
Runner addLens(CLI::App& command);
Runner addStmap(CLI::App& command);
Runner addUndistort(CLI::App& command);
Runner addRedistort(CLI::App& command);
Runner addSolve(CLI::App& command);
Runner addLengthen(CLI::App& command);
Runner addObject(CLI::App& command);
Runner addSteady(CLI::App& command);
Runner addShake(CLI::App& command);
Runner addStand(CLI::App& command);
Runner addProject(CLI::App& command);
Runner addDeliver(CLI::App& command);
Runner addMatte(CLI::App& command);
Runner addPropose(CLI::App& command);
Runner addPlanar(CLI::App& command);
Runner addPin(CLI::App& command);
Runner addInsert(CLI::App& command);
Runner addRun(CLI::App& command);

std::span<const Command> commands() {
    static constexpr Command kCommands[] = {
        {"info", "what a plate is", addInfo},
        {"track", "tracks from points placed by hand", addTrack},
        {"scatter", "features found and tracked", addScatter},
        {"lens", "a lens from straight lines or from a chart", addLens},
        {"stmap", "ST maps of a lens", addStmap},
        {"undistort", "a plate without its lens's distortion", addUndistort},
        {"redistort", "the distortion put back", addRedistort},
        {"solve", "camera, lens and point cloud", addSolve},
        {"lengthen", "tracks found again, joined and run on by what the camera knows", addLengthen},
        {"object", "rigid things that move by themselves, solved against the camera", addObject},
        {"steady", "steadied frames", addSteady},
        {"shake", "takes a shake from one plate and lends it to another", addShake},
        {"matte", "mattes as pictures, or as the plate's alpha", addMatte},
        {"propose", "mattes for what moves by itself", addPropose},
        {"planar", "a surface followed by its texture: its four corners", addPlanar},
        {"pin", "four point tracks as the corners of a surface", addPin},
        {"insert", "art put into the plate, on four corners", addInsert},
        {"stand", "stand-ins over the plate, seen by the solved camera", addStand},
        {"project", "a picture or matte of one frame, thrown on to a surface and seen on every frame", addProject},
        {"deliver", "writes a shot's deliveries", addDeliver},
        {"run", "does a shot's open steps and saves it", addRun},
    };
    return kCommands;
}

}  // namespace pinion::cli
