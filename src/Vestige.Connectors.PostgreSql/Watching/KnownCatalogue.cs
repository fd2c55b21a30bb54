using System.Collections.Immutable;
using Vestige.Core.Schemas;

namespace Vestige.Connectors.PostgreSql.Watching;

/// <summary>What is known of the watched tables, as last told. Immutable, so that a look may go on beside the reader.</summary>
/// <param name="Tables">By the name under which each crosses; null for one that is not there.</param>
/// <param name="Types">The enums and composite types, by number.</param>
/// <param name="TypesPrint">A digest of all of them; empty before the first look.</param>
/// <param name="Horizon">See <see cref="CatalogueGlance.Horizon"/>; 0 before the first look.</param>
internal sealed record KnownCatalogue(
    ImmutableDictionary<TableName, TableState?> Tables,
    IReadOnlyDictionary<uint, TypeState> Types,
    string TypesPrint,
    long Horizon
)
{
    public static KnownCatalogue Nothing { get; } =
        new(ImmutableDictionary<TableName, TableState?>.Empty, new Dictionary<uint, TypeState>(), "", 0);

    public TableState? Find(TableName table) => Tables.GetValueOrDefault(table);
}
