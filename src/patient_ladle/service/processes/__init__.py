"""The service's processes: supervisor, web, worker, scheduler, and the private database cluster."""
