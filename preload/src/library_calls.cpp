// SPDX-License-Identifier: GPL-3.0-or-later
#include "library_calls.hpp"

#include "hook.hpp"

namespace {

class Marker {
public:
    explicit Marker(fug_site& site) : began_(fugato::preload::recorded() ? fug_begin(&site) : 0) {}
    ~Marker() {
        const fugato::preload::KeepErrno keep;
        fug_end(began_);
    }
    Marker(const Marker&) = delete;
    Marker& operator=(const Marker&) = delete;

private:
    const int began_;
};

}  // namespace

#define CALL(category, description, result, name, parameters, arguments)     \
    FUGATO_STANDS_IN result name parameters {                                \
        static fug_site site = PLACELESS_SITE(#name, category, description); \
        const Marker marker(site);                                           \
        return fugato::preload::real_##name.get() arguments;                 \
    }
FUGATO_LIBRARY_CALLS(CALL)
#undef CALL
