// SPDX-License-Identifier: GPL-3.0-or-later
//
// When a preloaded program is recorded. Its environment says where to (recorder/src/launched.hpp). Where the program
// has a library for pictures it is recorded in memory from then on, and into its file from its first picture on; a
// program without pictures (a launcher, a shell, a helper) is not recorded, and pays nothing.
#pragma once

namespace fugato::preload {

/// A picture is about to be shown, or has been: recording begins, where that is still to be done.
void beginWithPicture();
/// Whether a library of that name shows pictures.
bool isPictureLibrary(const char* path);

}  // namespace fugato::preload
