#pragma once

#include <functional>

namespace rapporto {

/// Runs `work` on this thread. While it waits for what it gave to the pool the thread takes up
/// nothing but that: what holds a lock may ask the pool here.
void apart(const std::function<void()>& work);

}  // namespace rapporto
