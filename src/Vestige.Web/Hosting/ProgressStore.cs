using System.Text.Json;
using Microsoft.EntityFrameworkCore;
using Vestige.Core.Positions;
using Vestige.Core.Schemas;
using Vestige.Engine.Faults;
using Vestige.Engine.Ports;
using Vestige.Storage;
using Vestige.Storage.Entities;

namespace Vestige.Web.Hosting;

/// <summary>The progress of crossings whose targets keep none, in the store of the data folder. Safe for several threads.</summary>
public sealed class ProgressStore(StoreFactory factory) : IProgressStore
{
    /// <summary>Reads what is known of a crossing.</summary>
    public async Task<TargetProgress> ReadProgressAsync(string crossing, CancellationToken cancellation)
    {
        await using var store = factory.CreateDbContext();
        return ProgressOf(await store.Progress.AsNoTracking().FirstOrDefaultAsync(kept => kept.Crossing == crossing, cancellation));
    }

    /// <summary>Takes a crossing over; throws <see cref="FencedException"/> when a higher term was here before.</summary>
    public async Task<IProgressSession> OpenProgressAsync(string crossing, long term, CancellationToken cancellation)
    {
        var progress = TargetProgress.None;
        await factory.ChangeAsync(
            $"The progress of {crossing}",
            async store =>
            {
                var kept = await store.Progress.FindAsync([crossing], cancellation);
                if (kept is null)
                {
                    store.Progress.Add(kept = new ProgressRecord { Crossing = crossing, Tables = "[]" });
                }

                if (term <= kept.Term)
                {
                    throw new FencedException($"Term {kept.Term} is at work on {crossing}.") { Transient = true, Term = kept.Term };
                }

                kept.Term = term;
                progress = ProgressOf(kept);
            },
            cancellation
        );
        return new Session(factory, crossing, term, progress);
    }

    /// <summary>Forgets a crossing.</summary>
    public async Task ForgetAsync(string crossing, CancellationToken cancellation)
    {
        await using var store = factory.CreateDbContext();
        await store.Progress.Where(kept => kept.Crossing == crossing).ExecuteDeleteAsync(cancellation);
    }

    private static TargetProgress ProgressOf(ProgressRecord? kept) =>
        kept is null
            ? TargetProgress.None
            : new TargetProgress(
                LogOf(kept.Server, kept.Timeline),
                kept.Offset is { } offset ? new LogPosition(unchecked((ulong)offset)) : null,
                [.. JsonSerializer.Deserialize<List<KeptTable>>(kept.Tables)!.Select(table => table.Progress)],
                kept.Token
            );

    private static LogIdentity? LogOf(string? server, long? timeline) =>
        server is null || timeline is null ? null : new LogIdentity(server, timeline.Value);

    private sealed class Session(StoreFactory factory, string crossing, long term, TargetProgress found) : IProgressSession
    {
        public TargetProgress Progress { get; private set; } = found;

        public void Match(IReadOnlyList<LogBranch> branches) => Progress = Progress.Match(branches);

        public async Task SaveAsync(ProgressUpdate update, CancellationToken cancellation)
        {
            var after = Progress.With(update);
            await factory.ChangeAsync(
                $"The progress of {crossing}",
                async store =>
                {
                    var kept = await store.Progress.FindAsync([crossing], cancellation);
                    if (kept?.Term != term || ProgressOf(kept) is var there && !StandsAt(there))
                    {
                        throw new FencedException($"Another worker than that of term {term} has written the progress of {crossing}.")
                        {
                            Transient = true,
                            Term = kept?.Term ?? 0,
                        };
                    }

                    kept.Server = after.Identity?.Server;
                    kept.Timeline = after.Identity?.Timeline;
                    kept.Offset = after.Position is { } position ? unchecked((long)position.Offset) : null;
                    kept.Token = after.Token;
                    kept.Tables = JsonSerializer.Serialize(after.Tables.Select(KeptTable.Of));
                },
                cancellation
            );
            Progress = after;
        }

        public ValueTask DisposeAsync() => ValueTask.CompletedTask;

        private bool StandsAt(TargetProgress there) =>
            there.Identity == Progress.Identity && there.Position?.Offset == Progress.Position?.Offset;
    }

    /// <summary>The progress of a table as it is stored; loads into such targets begin again, so that nothing of a part is kept.</summary>
    private sealed record KeptTable(string Schema, string Name, bool Loaded, ulong Offset)
    {
        public string? HeldCause { get; init; }

        public string? Into { get; init; }

        public bool Settled { get; init; }

        public string? Form { get; init; }

        public string? Server { get; init; }

        public long? Timeline { get; init; }

        public ulong? Reached { get; init; }

        public ulong? AgreedUpTo { get; init; }

        [System.Text.Json.Serialization.JsonIgnore]
        public TableProgress Progress =>
            new(new TableName(Schema, Name), Loaded, new LogPosition(Offset), HeldCause, Into: Into, Settled: Settled, Fingerprint: Form)
            {
                Log = LogOf(Server, Timeline),
                Reached = Reached is { } reached ? new LogPosition(reached) : null,
                AgreedUpTo = AgreedUpTo is { } agreed ? new LogPosition(agreed) : null,
            };

        public static KeptTable Of(TableProgress table) =>
            new(table.Table.Schema, table.Table.Name, table.Loaded, table.Position.Offset)
            {
                HeldCause = table.HeldCause,
                Into = table.Into,
                Settled = table.Settled,
                Form = table.Fingerprint,
                Server = table.Log?.Server,
                Timeline = table.Log?.Timeline,
                Reached = table.Reached?.Offset,
                AgreedUpTo = table.AgreedUpTo?.Offset,
            };
    }
}
