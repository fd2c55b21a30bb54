using Vestige.Core.Positions;
using Vestige.Core.Schemas;
using Vestige.Core.SchemaVersions;
using Vestige.Engine.Events;
using Vestige.Engine.Ports;

namespace Vestige.Engine.SchemaVersions;

// What holds at every moment, a crash included:
//
//  1. A version is kept before the log that tells it is appended to the spool. So what a crash takes from the spool is told again, and
//     nothing that the spool holds is missing here.
//  2. A version that a reader gives again, after a crash or because it was opened again, is known by the table's latest version: it does
//     not come after that; or it was found by looking, at a later position than the first time, with the same schema and the same words.
//  3. That a table was found counts as long as no version of it is known.
//
//  Case 1. Crash after the version was kept, before the spool was synced: told again, and passed over (2).
//  Case 2. The store cannot be written: the read is not taken, and comes again (1).
//  Case 3. Appended to the spool, crash before the sync: the disk may have it all the same, and then it is not told again. The version is
//          kept by then (1).

/// <summary>
/// Keeps the versions of one source's tables as its log tells them. Not safe for several threads: the reader of the log calls it.
/// </summary>
internal sealed class SchemaHistory(string source, ISchemaVersionStore store, EventLog events, TimeProvider clock)
{
    private Dictionary<TableName, VersionMark>? latest;

    /// <summary>Keeps what is new of what was told. Durable when it returns.</summary>
    /// <param name="told">In log order.</param>
    /// <param name="log">The log that is read.</param>
    /// <param name="cancellation">Gives up.</param>
    public async Task TakeAsync(IReadOnlyList<ToldVersion> told, LogIdentity log, CancellationToken cancellation)
    {
        if (told.Count == 0)
        {
            return;
        }

        latest ??= (await store.LatestAsync(source, cancellation)).ToDictionary(mark => mark.Table);
        var after = new Dictionary<TableName, VersionMark>(latest);
        var versions = new List<SchemaVersion>();
        foreach (var one in told.Where(one => IsNew(one, log, after.GetValueOrDefault(one.Table))))
        {
            versions.AddRange(await VersionsAsync(one, log, versions, after.GetValueOrDefault(one.Table), cancellation));
            after[one.Table] = VersionMark.Of(versions[^1]);
        }

        if (versions.Count == 0)
        {
            return;
        }

        await store.AddAsync(source, versions, cancellation);
        latest = after;
        await TellAsync(versions);
    }

    private static bool IsNew(ToldVersion told, LogIdentity log, VersionMark? known) =>
        known is null
        || (
            told.What.Length > 0
            && (log != known.Log || known.IsBefore(told.From, told.Ordinal))
            && (
                told.Certainty == VersionCertainty.Exact
                || known.Digest != SchemaDigest.Of(told.Schema)
                || known.What != told.What
            )
        );

    /// <summary>The version, after the one before it where only that told is known.</summary>
    private async Task<IReadOnlyList<SchemaVersion>> VersionsAsync(
        ToldVersion told,
        LogIdentity log,
        List<SchemaVersion> pending,
        VersionMark? known,
        CancellationToken cancellation
    )
    {
        var version = new SchemaVersion(told.Table, told.From, log, told.Certainty, told.Schema, told.What, clock.GetUtcNow())
        {
            Ordinal = told.Ordinal,
            NotBefore = told.NotBefore,
            Statement = told.Statement,
        };
        if (known is null)
        {
            return told.Before is { } first && told.What.Length > 0
                ?
                [
                    new SchemaVersion(told.Table, told.NotBefore ?? told.From, log, VersionCertainty.Derived, first, "", clock.GetUtcNow()),
                    version with
                    {
                        Changes = [.. Changes(first, told.Schema), .. told.Beside],
                    },
                ]
                : [version with { What = "", Changes = Changes(null, told.Schema) }];
        }

        var before =
            pending.LastOrDefault(one => one.Table == told.Table)
            ?? await store.LatestOfAsync(source, told.Table, cancellation);
        return [version with { Changes = [.. Changes(before?.Schema, told.Schema), .. told.Beside] }];
    }

    private static IReadOnlyList<SchemaChange> Changes(TableSchema? before, TableSchema? after) =>
        (before, after) switch
        {
            (null, null) => [],
            (null, _) => [new SchemaChange(SchemaChangeKind.TableCreated, after.Name.ToString())],
            (_, null) => [new SchemaChange(SchemaChangeKind.TableDropped, before.Name.ToString())],
            _ => SchemaComparison.Between(before, after),
        };

    private async Task TellAsync(List<SchemaVersion> versions)
    {
        foreach (var version in versions.Where(version => version.What.Length > 0))
        {
            // What a reader says is against what it had noted, which after a restart may be an older version than the one before.
            var what = version.Changes.Count > 0 ? string.Join("; ", version.Changes.Select(change => change.Words)) : version.What;
            await events.OfConnectionAsync(source, EventKind.Note, $"The schema of {version.Table} changed: {what}.");
        }
    }
}
