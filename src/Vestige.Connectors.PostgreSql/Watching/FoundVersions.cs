using Vestige.Core.Positions;
using Vestige.Core.Schemas;
using Vestige.Core.SchemaVersions;
using Vestige.Engine.Ports;

namespace Vestige.Connectors.PostgreSql.Watching;

/// <summary>The versions of tables that looks at the catalogue found, until the reader gives them out. One caller at a time.</summary>
internal sealed class FoundVersions
{
    private readonly List<ToldVersion> found = [];
    private readonly Dictionary<TableName, (LogPosition At, int Ordinal)> last = [];

    /// <summary>Up to here what is known of all tables holds, by the last look at all of them.</summary>
    public LogPosition ProvenAt { get; set; }

    /// <summary>
    /// A version that lies between the last look at all tables and a position; an exact one, which the log tells, at that position.
    /// </summary>
    public void Add(ToldVersion version, LogPosition position)
    {
        var ordinal = last.GetValueOrDefault(version.Table) is var before && before.At == position ? before.Ordinal + 1 : 0;
        last[version.Table] = (position, ordinal);
        found.Add(
            version with
            {
                From = position,
                Ordinal = ordinal,
                NotBefore = version.Certainty == VersionCertainty.Exact ? null : LogPosition.Min(ProvenAt, position),
            }
        );
    }

    /// <summary>The tables as they are known after the first look, those of which a version was found apart.</summary>
    public void AddPresent(IEnumerable<TableName> tables, KnownCatalogue known, CatalogueGlance first)
    {
        var changed = found.Select(version => version.Table).ToHashSet();
        foreach (var table in tables.Where(table => !changed.Contains(table)))
        {
            if (first.Tables.ContainsKey(table) && known.Find(table) is { } state)
            {
                found.Add(new ToldVersion(table, first.Begin, VersionCertainty.Exact, state.Described(table), ""));
            }
        }
    }

    /// <summary>Those found since the last call.</summary>
    public IReadOnlyList<ToldVersion> Take()
    {
        ToldVersion[] taken = [.. found];
        found.Clear();
        return taken;
    }
}
