using System.Text.Json;
using Microsoft.EntityFrameworkCore;
using Vestige.Engine.Events;
using Vestige.Engine.Ports;
using Vestige.Storage;
using Vestige.Storage.Entities;

namespace Vestige.Web.Hosting;

/// <summary>Runs in the store of the data folder.</summary>
public sealed class RunStore(StoreFactory factory) : IRunStore
{
    public Task KeepAsync(CrossingRun run, CancellationToken cancellation)
    {
        ArgumentNullException.ThrowIfNull(run);
        return ChangeAsync(
            async store =>
            {
                var record = await store.Runs.FindAsync([run.Crossing, run.BeganAt.UtcTicks], cancellation);
                if (record is null)
                {
                    store.Runs.Add(
                        record = new RunRecord
                        {
                            Crossing = run.Crossing,
                            BeganTicks = run.BeganAt.UtcTicks,
                            Run = "",
                        }
                    );
                }

                (record.Run, record.Open) = (JsonSerializer.Serialize(run), run.Why.Length == 0);
            },
            cancellation
        );
    }

    public Task CloseAsync(CancellationToken cancellation) =>
        ChangeAsync(
            async store =>
            {
                foreach (var record in await store.Runs.Where(run => run.Open).ToListAsync(cancellation))
                {
                    (record.Run, record.Open) = (JsonSerializer.Serialize(Read(record.Run) with { Why = CrossingRun.ProcessEnded }), false);
                }
            },
            cancellation
        );

    /// <summary>The runs of a crossing, the latest first.</summary>
    /// <param name="crossing">The crossing.</param>
    /// <param name="before">Only those that began before; null for the latest.</param>
    /// <param name="most">At most this many.</param>
    /// <param name="cancellation">Gives up.</param>
    public async Task<IReadOnlyList<CrossingRun>> ReadAsync(
        string crossing,
        DateTimeOffset? before,
        int most,
        CancellationToken cancellation
    )
    {
        var ticks = before?.UtcTicks ?? long.MaxValue;
        await using var store = factory.CreateDbContext();
        return
        [
            .. (
                await store
                    .Runs.AsNoTracking()
                    .Where(run => run.Crossing == crossing && run.BeganTicks < ticks)
                    .OrderByDescending(run => run.BeganTicks)
                    .Take(most)
                    .Select(run => run.Run)
                    .ToListAsync(cancellation)
            ).Select(Read),
        ];
    }

    /// <summary>Drops runs that began before a moment.</summary>
    public Task ForgetAsync(DateTimeOffset before, CancellationToken cancellation) =>
        ChangeAsync(
            store => store.Runs.Where(run => run.BeganTicks < before.UtcTicks && !run.Open).ExecuteDeleteAsync(cancellation),
            cancellation
        );

    private static CrossingRun Read(string json) => JsonSerializer.Deserialize<CrossingRun>(json)!;

    private Task ChangeAsync(Func<VestigeStore, Task> change, CancellationToken cancellation) =>
        factory.ChangeAsync("Runs", change, cancellation);
}
