#pragma once

#include "shot/shot.h"

#include <functional>
#include <vector>

namespace pinion {

// Edits of what stands in the solved scene: each gives the shot after it.

/// On top of the list, under a free name. The first one brings a layer that shows them over the plate, above the
/// inserts that are there, and a deliverable that hands them on.
Shot withStandInAdded(const Shot& shot, StandIn standIn, StandInId* id = nullptr);
Shot withStandInEdited(const Shot& shot, StandInId standIn, const std::function<void(StandIn&)>& edit);
Shot withStandInRenamed(const Shot& shot, StandInId standIn, const std::string& name);
/// The last one takes its layer and its deliverable with it.
Shot withStandInRemoved(const Shot& shot, StandInId standIn);
/// With all of its group, which make a new one.
Shot withStandInCopied(const Shot& shot, StandInId standIn, StandInId* id = nullptr);
/// They are moved, turned and sized together from here on; out of the groups that they were in. Of fewer than two
/// nothing comes.
Shot withStandInsGrouped(const Shot& shot, const std::vector<StandInId>& standIns);
/// All of its group are by themselves again.
Shot withStandInsUngrouped(const Shot& shot, StandInId standIn);
/// Where it stands on a frame: of one with keys the key there, else everywhere.
Shot withStance(const Shot& shot, StandInId standIn, int frame, const Stance& stance);
/// The same of one that an object may carry, by where that takes it: a stance of the world. Its group goes along.
Shot withWorldStance(const Shot& shot, StandInId standIn, int frame, const Stance& stance);
/// Carried by a solved object from here on, 0: by none; on this frame it stays where it is. Its keys are carried along.
Shot withStandInCarried(const Shot& shot, StandInId standIn, ObjectId object, int frame);

/// A key as it stands on the frame; taken away where there is one.
Shot withStanceKey(const Shot& shot, StandInId standIn, int frame);
Shot withStanceKeyRemoved(const Shot& shot, StandInId standIn, int frame);
Shot withSun(const Shot& shot, const Sun& sun);

/// A picture that was made on `frame`, thrown through that frame's camera on to a stand-in, 0: the ground; above the
/// other layers.
Shot withPictureThrown(const Shot& shot, const Clip& clip, const std::vector<int>& from, StandInId onto);

/// The mattes of what passes before the stand-ins.
Shot withSceneHeldOut(const Shot& shot, const List<MatteId>& mattes);

const StandIn* findStandIn(const Shot& shot, StandInId standIn);

}  // namespace pinion
