import { QueryClient, type InvalidateOptions, type InvalidateQueryFilters } from "@tanstack/react-query";

/**
 * Asks anew after a change even where the first answer is still on its way: what was asked before the change
 * tells how things were, and an answer under way would otherwise count as the new one.
 */
export class Queries extends QueryClient {
  override async invalidateQueries(filters?: InvalidateQueryFilters, options?: InvalidateOptions) {
    await this.cancelQueries(filters);
    await super.invalidateQueries(filters, options);
  }
}
