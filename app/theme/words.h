// SPDX-License-Identifier: GPL-3.0-or-later
#pragma once

#include <QString>
#include <string>

namespace fugato {

/// Words of the core, as Qt holds them.
inline QString q(const std::string& text) { return QString::fromStdString(text); }

}  // namespace fugato
