#include "core/numerics/dense_instances.h"

RAPPORTO_DENSE_INSTANCES()
