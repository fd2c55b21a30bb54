using Npgsql;
using Vestige.Connectors.PostgreSql.Log;
using Vestige.Core.Schemas;
using Vestige.Engine.Faults;

namespace Vestige.Connectors.PostgreSql.Watching;

/// <summary>
/// Decides when the catalogue is looked at. Whoever looks also removes from the publication the tables whose own updates would
/// fail; those are asked for on their own as well, so that the source does not wait for a look that takes long. Safe for several threads.
/// </summary>
internal sealed class CatalogueLooks
{
    /// <summary>
    /// A look of thousands of tables takes the server some tenths of a second; looks take it at most one part in this many.
    /// </summary>
    private const int ShareOfTime = 20;
    private static readonly TimeSpan Every = TimeSpan.FromSeconds(3);
    private static readonly TimeSpan AtMost = TimeSpan.FromSeconds(30);

    /// <summary>A commit that waits for a synchronous standby may not show for long; other tables do not wait for it.</summary>
    private static readonly TimeSpan LongestWait = TimeSpan.FromSeconds(2);
    private static readonly TimeSpan AskAgain = TimeSpan.FromMilliseconds(10);
    private readonly PostgreSqlDatabase database;
    private readonly LogNames names;
    private readonly TimeProvider clock;
    private readonly Lock gate = new();
    private (Task<CatalogueGlance> Look, long Mark)? begun;
    private (TimeSpan Last, TimeSpan Before) took;
    private Task? releasing;
    private long begunAt;
    private long releasedAt;
    private uint givenUp;

    public CatalogueLooks(PostgreSqlDatabase database, LogNames names, TimeProvider clock)
    {
        (this.database, this.names, this.clock) = (database, names, clock);
        begunAt = releasedAt = clock.GetTimestamp();
    }

    /// <summary>Begins a look when one is due.</summary>
    /// <param name="known">What is known so far.</param>
    /// <param name="tables">The tables to look at.</param>
    /// <param name="mark">Given back with what is seen.</param>
    public void BeginWhenDue(KnownCatalogue known, IReadOnlyCollection<TableName> tables, long mark)
    {
        lock (gate)
        {
            if (begun is null && clock.GetElapsedTime(begunAt) >= Pause)
            {
                begunAt = clock.GetTimestamp();
                begun = (TimedAsync(known, tables), mark);
            }

            var idle = begun is null or { Look.IsCompleted: true } && releasing is null or { IsCompleted: true };
            if (idle && clock.GetElapsedTime(releasedAt) >= Every)
            {
                releasedAt = clock.GetTimestamp();
                releasing = ReleaseFailingAsync();
            }
        }
    }

    /// <summary>The look that was begun, once it has ended; null before. It stays until <see cref="Take"/>.</summary>
    public (Task<CatalogueGlance> Look, long Mark)? Ended
    {
        get
        {
            lock (gate)
            {
                return begun is { Look.IsCompleted: true } ? begun : null;
            }
        }
    }

    /// <summary>The look that ended has been used; the next may begin.</summary>
    public void Take()
    {
        lock (gate)
        {
            begun = null;
        }
    }

    /// <summary>Looks now. Throws when nothing is published any more.</summary>
    public Task<CatalogueGlance> LookAsync(KnownCatalogue known, IReadOnlyCollection<TableName> tables, CancellationToken cancellation) =>
        database.UseMovingAsync(
            "Looking at the tables",
            async (connection, stop) =>
            {
                if (await Publication.TablesAsync(connection, names.Publication, stop) is null)
                {
                    throw Publication.Dropped(names, database.Endpoint);
                }

                var seen = await CatalogueGlancer.LookAsync(connection, names, known, tables, stop);
                List<TableName> failing =
                [
                    .. seen.Tables.Where(pair => pair.Value is { Whole: not null, Identified: false }).Select(pair => pair.Key),
                ];
                return failing.Count == 0 ? seen : seen with { Refusal = await ReleaseAsync(connection, failing, stop) };
            },
            cancellation
        );

    /// <summary>
    /// Looks once a transaction that the log has told shows to others: its commit stands in the log a moment before that. Where
    /// it does not show within two seconds, the look goes ahead without it, and a later one finds what it did.
    /// </summary>
    public async Task<CatalogueGlance> LookBehindAsync(
        uint transaction,
        KnownCatalogue known,
        IReadOnlyCollection<TableName> tables,
        CancellationToken cancellation
    )
    {
        if (transaction != givenUp && !await ShowsAsync(transaction, cancellation))
        {
            givenUp = transaction;
        }

        return await LookAsync(known, tables, cancellation);
    }

    private Task<bool> ShowsAsync(uint transaction, CancellationToken cancellation) =>
        database.UseAsync(
            "Waiting for a transaction to show",
            async (connection, stop) =>
            {
                var began = clock.GetTimestamp();
                while (!(await CatalogueGlancer.RunningAsync(connection, stop)).HasEnded(transaction))
                {
                    if (clock.GetElapsedTime(began) >= LongestWait)
                    {
                        return false;
                    }

                    await Task.Delay(AskAgain, clock, stop);
                }

                return true;
            },
            cancellation
        );

    /// <summary>
    /// By the quicker of the last two looks: one that had more to do, or found the machine busy, says little about the next.
    /// </summary>
    private TimeSpan Pause
    {
        get
        {
            var pause = (took.Last < took.Before ? took.Last : took.Before) * ShareOfTime;
            return pause < Every ? Every
                : pause < AtMost ? pause
                : AtMost;
        }
    }

    private async Task<CatalogueGlance> TimedAsync(KnownCatalogue known, IReadOnlyCollection<TableName> tables)
    {
        var began = clock.GetTimestamp();
        var seen = await LookAsync(known, tables, CancellationToken.None);
        lock (gate)
        {
            took = (clock.GetElapsedTime(began), took.Last);
        }

        return seen;
    }

    /// <summary>The next look reports what is found here, and why it could not be done.</summary>
    private async Task ReleaseFailingAsync()
    {
        try
        {
            await database.UseAsync(
                "Looking for tables whose updates fail",
                async (connection, stop) =>
                {
                    var failing = await Publication.FailingAsync(connection, names.Publication, stop);
                    return failing.Count > 0 ? await ReleaseAsync(connection, failing, stop) : null;
                },
                CancellationToken.None
            );
        }
        catch (PortException)
        {
            // The reader notices a server that cannot be asked.
        }
    }

    private async Task<string?> ReleaseAsync(NpgsqlConnection connection, IReadOnlyList<TableName> failing, CancellationToken cancellation)
    {
        try
        {
            await Publication.ReleaseAsync(connection, names.Publication, failing, cancellation);
            return null;
        }
        catch (PostgresException exception)
        {
            // Another look may have done it a moment before.
            var left = await Publication.FailingAsync(connection, names.Publication, cancellation);
            var statements = string.Join("; ", Publication.ReleaseStatements(names.Publication, failing));
            return failing.Any(left.Contains)
                ? $"{exception.MessageText} (SQLSTATE {exception.SqlState}). Run as a DBA: {statements}"
                : null;
        }
    }
}
