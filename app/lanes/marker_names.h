// SPDX-License-Identifier: GPL-3.0-or-later
//
// Names of markers as they fit into a width, laid out once and kept. Interface thread only.
#pragma once

#include <QStaticText>
#include <memory>
#include <unordered_map>
#include <vector>

#include "core/model/recording.h"

namespace fugato {

class MarkerNames {
public:
    void setRecording(std::shared_ptr<const Recording> recording);
    /// Another font or theme.
    void forget();
    /// As much of a marker's name as fits, with dots where it is cut; null where not two letters do.
    const QStaticText* fitting(uint32_t site, double width);

private:
    int lettersIn(uint32_t site, double width);
    std::shared_ptr<const Recording> recording_;
    std::vector<std::vector<float>> widths_;           // by site: of its first n letters
    std::unordered_map<uint64_t, QStaticText> texts_;  // by site and number of letters
};

}  // namespace fugato
