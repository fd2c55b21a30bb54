using System.Text.Json;
using Microsoft.EntityFrameworkCore;
using Vestige.Core.Forecasting;
using Vestige.Core.Measures;
using Vestige.Engine.Measuring;
using Vestige.Engine.Ports;
using Vestige.Storage;

namespace Vestige.Web.Hosting;

/// <summary>Measures in the store of the data folder.</summary>
public sealed class MeasureStore(StoreFactory factory) : IMeasureStore
{
    public Task KeepAsync(
        IReadOnlyList<MeasureBlock> blocks,
        IReadOnlyList<AppliedBlock> applied,
        IReadOnlyList<ScoredBlock> judged,
        DateTimeOffset now,
        CancellationToken cancellation
    )
    {
        ArgumentNullException.ThrowIfNull(blocks);
        ArgumentNullException.ThrowIfNull(applied);
        ArgumentNullException.ThrowIfNull(judged);
        return ChangeAsync(
            async store =>
            {
                // Written as statements: tracking thousands of blocks a minute would cost more than all the rest of measuring.
                foreach (var block in blocks)
                {
                    var (step, start, slots) = (
                        (int)block.Step.Slot.TotalSeconds,
                        block.Start.ToUnixTimeSeconds(),
                        MeasurePacking.Write(block.Slots)
                    );
                    await store.Database.ExecuteSqlAsync(
                        $"""
                        INSERT INTO "Measures" ("Crossing", "Step", "Start", "Slots") VALUES ({block.Crossing}, {step}, {start}, {slots})
                        ON CONFLICT ("Crossing", "Step", "Start") DO UPDATE SET "Slots" = excluded."Slots"
                        """,
                        cancellation
                    );
                }

                foreach (var block in applied)
                {
                    var (start, times) = (block.Start.ToUnixTimeSeconds(), AppliedPacking.Write(block.Times));
                    await store.Database.ExecuteSqlAsync(
                        $"""
                        INSERT INTO "Applied" ("Crossing", "Start", "Times") VALUES ({block.Crossing}, {start}, {times})
                        ON CONFLICT ("Crossing", "Start") DO UPDATE SET "Times" = excluded."Times"
                        """,
                        cancellation
                    );
                }

                foreach (var block in judged)
                {
                    var (kind, text) = (block.Kind.ToString(), JsonSerializer.Serialize(block.Judged));
                    await store.Database.ExecuteSqlAsync(
                        $"""
                        INSERT INTO "JudgedForecasts" ("Crossing", "Kind", "Judged") VALUES ({block.Crossing}, {kind}, {text})
                        ON CONFLICT ("Crossing", "Kind") DO UPDATE SET "Judged" = excluded."Judged"
                        """,
                        cancellation
                    );
                }

                var dropped = (now - AppliedBlock.Kept - TimeSpan.FromHours(1)).ToUnixTimeSeconds();
                await store.Applied.Where(block => block.Start < dropped).ExecuteDeleteAsync(cancellation);
                foreach (var step in MeasureStep.All)
                {
                    var (seconds, oldest) = ((int)step.Slot.TotalSeconds, (now - step.Kept - step.Block).ToUnixTimeSeconds());
                    await store.Measures.Where(block => block.Step == seconds && block.Start < oldest).ExecuteDeleteAsync(cancellation);
                }
            },
            cancellation
        );
    }

    public async Task<IReadOnlyList<MeasureSlot>> ReadAsync(
        string crossing,
        MeasureStep step,
        DateTimeOffset from,
        DateTimeOffset before,
        CancellationToken cancellation
    )
    {
        ArgumentNullException.ThrowIfNull(step);
        var (seconds, first, last) = ((int)step.Slot.TotalSeconds, step.BlockOf(from).ToUnixTimeSeconds(), before.ToUnixTimeSeconds());
        await using var store = factory.CreateDbContext();
        var blocks = await store
            .Measures.AsNoTracking()
            .Where(block => block.Crossing == crossing && block.Step == seconds && block.Start >= first && block.Start <= last)
            .OrderBy(block => block.Start)
            .Select(block => block.Slots)
            .ToListAsync(cancellation);
        return [.. blocks.SelectMany(MeasurePacking.Read).Where(slot => slot.Start >= from && slot.Start < before)];
    }

    public async Task<IReadOnlyList<AppliedTime>> AppliedAsync(string crossing, DateTimeOffset from, CancellationToken cancellation)
    {
        var first = MeasureStep.Hour.SlotOf(from).ToUnixTimeSeconds();
        await using var store = factory.CreateDbContext();
        var blocks = await store
            .Applied.AsNoTracking()
            .Where(block => block.Crossing == crossing && block.Start >= first)
            .OrderBy(block => block.Start)
            .Select(block => block.Times)
            .ToListAsync(cancellation);
        return [.. blocks.SelectMany(AppliedPacking.Read)];
    }

    public async Task<IReadOnlyList<ScoredBlock>> ScoredAsync(string crossing, CancellationToken cancellation)
    {
        await using var store = factory.CreateDbContext();
        var kept = await store.JudgedForecasts.AsNoTracking().Where(judged => judged.Crossing == crossing).ToListAsync(cancellation);
        return
        [
            .. kept.Select(judged => new ScoredBlock(
                crossing,
                Enum.Parse<ForecastKind>(judged.Kind),
                JsonSerializer.Deserialize<List<ScoredForecast>>(judged.Judged)!
            )),
        ];
    }

    public Task ForgetAsync(string crossing, CancellationToken cancellation) =>
        ChangeAsync(
            async store =>
            {
                await store.Measures.Where(block => block.Crossing == crossing).ExecuteDeleteAsync(cancellation);
                await store.Applied.Where(block => block.Crossing == crossing).ExecuteDeleteAsync(cancellation);
                await store.JudgedForecasts.Where(judged => judged.Crossing == crossing).ExecuteDeleteAsync(cancellation);
            },
            cancellation
        );

    private Task ChangeAsync(Func<VestigeStore, Task> change, CancellationToken cancellation) =>
        factory.ChangeAsync("Measures", change, cancellation);
}
