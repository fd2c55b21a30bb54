using System.Text.Json;
using Microsoft.EntityFrameworkCore;
using Vestige.Core.Schemas;
using Vestige.Engine.Ports;
using Vestige.Engine.Reconciling;
using Vestige.Storage;
using Vestige.Storage.Entities;

namespace Vestige.Web.Hosting;

/// <summary>
/// Comparisons, verdicts and repairs in the store of the data folder. Whatever says something of rows is sealed as a whole.
/// </summary>
public sealed class ReconciliationStore(StoreFactory factory, ISpoolCipher cipher, TimeProvider clock) : IReconciliationStore
{
    private const int Kept = 200;
    private static readonly JsonSerializerOptions Options = new() { Converters = { new RowConverter() } };

    public Task SaveAsync(Reconciliation reconciliation, CancellationToken cancellation)
    {
        ArgumentNullException.ThrowIfNull(reconciliation);
        return ChangeAsync(
            async store =>
            {
                var record = await store.Reconciliations.FindAsync([reconciliation.Crossing, reconciliation.Id], cancellation);
                if (record is null)
                {
                    record = new ReconciliationRecord
                    {
                        Crossing = reconciliation.Crossing,
                        Id = reconciliation.Id,
                        BeganTicks = reconciliation.BeganAt.UtcTicks,
                        Head = "",
                        Sealed = [],
                    };
                    store.Reconciliations.Add(record);
                    var old = store
                        .Reconciliations.Where(one => one.Crossing == reconciliation.Crossing)
                        .OrderByDescending(one => one.BeganTicks)
                        .Skip(Kept);
                    store.Reconciliations.RemoveRange(await old.ToListAsync(cancellation));
                }

                record.Open = reconciliation.State == ReconciliationState.Running;
                record.Head = JsonSerializer.Serialize(
                    reconciliation with
                    {
                        Tables = [.. reconciliation.Tables.Select(table => table with { Segments = [], Rows = [], Schema = null })],
                    },
                    Options
                );
                record.Sealed = cipher.Seal(JsonSerializer.SerializeToUtf8Bytes(reconciliation, Options));
            },
            cancellation
        );
    }

    public async Task<IReadOnlyList<Reconciliation>> ListAsync(string crossing, int most, CancellationToken cancellation)
    {
        await using var store = factory.CreateDbContext();
        var heads = await store
            .Reconciliations.AsNoTracking()
            .Where(one => one.Crossing == crossing)
            .OrderByDescending(one => one.BeganTicks)
            .Take(most)
            .Select(one => one.Head)
            .ToListAsync(cancellation);
        return [.. heads.Select(head => JsonSerializer.Deserialize<Reconciliation>(head, Options)!)];
    }

    public async Task<Reconciliation?> FindAsync(string crossing, string id, CancellationToken cancellation)
    {
        await using var store = factory.CreateDbContext();
        var record = await store
            .Reconciliations.AsNoTracking()
            .FirstOrDefaultAsync(one => one.Crossing == crossing && one.Id == id, cancellation);
        return record is null ? null : Open<Reconciliation>(record.Sealed);
    }

    public Task CloseAsync(CancellationToken cancellation) =>
        ChangeAsync(
            async store =>
            {
                foreach (var record in await store.Reconciliations.Where(one => one.Open).ToListAsync(cancellation))
                {
                    var ended = Open<Reconciliation>(record.Sealed) with
                    {
                        State = ReconciliationState.Cancelled,
                        Note = "the process ended",
                        EndedAt = clock.GetUtcNow(),
                    };
                    record.Open = false;
                    record.Head = JsonSerializer.Serialize(
                        ended with
                        {
                            Tables = [.. ended.Tables.Select(table => table with { Segments = [], Rows = [], Schema = null })],
                        },
                        Options
                    );
                    record.Sealed = cipher.Seal(JsonSerializer.SerializeToUtf8Bytes(ended, Options));
                }
            },
            cancellation
        );

    public async Task<IReadOnlyList<Verdict>> VerdictsAsync(string crossing, CancellationToken cancellation)
    {
        await using var store = factory.CreateDbContext();
        return
        [
            .. (
                await store
                    .Verdicts.AsNoTracking()
                    .Where(one => one.Crossing == crossing)
                    .Select(one => one.Verdict)
                    .ToListAsync(cancellation)
            ).Select(text => JsonSerializer.Deserialize<Verdict>(text, Options)!),
        ];
    }

    public Task SaveAsync(string crossing, IReadOnlyList<Verdict> verdicts, CancellationToken cancellation) =>
        ChangeAsync(
            async store =>
            {
                foreach (var verdict in verdicts)
                {
                    var (table, text) = (verdict.Table.ToString(), JsonSerializer.Serialize(verdict, Options));
                    await store.Database.ExecuteSqlAsync(
                        $"""
                        INSERT INTO "Verdicts" ("Crossing", "Table", "Verdict") VALUES ({crossing}, {table}, {text})
                        ON CONFLICT ("Crossing", "Table") DO UPDATE SET "Verdict" = excluded."Verdict"
                        """,
                        cancellation
                    );
                }
            },
            cancellation
        );

    public Task ForgetVerdictsAsync(string crossing, IReadOnlyList<TableName>? tables, CancellationToken cancellation)
    {
        var names = tables?.Select(table => table.ToString()).ToList();
        return ChangeAsync(
            store =>
                store
                    .Verdicts.Where(one => one.Crossing == crossing && (names == null || names.Contains(one.Table)))
                    .ExecuteDeleteAsync(cancellation),
            cancellation
        );
    }

    public Task SaveAsync(Repair repair, CancellationToken cancellation)
    {
        ArgumentNullException.ThrowIfNull(repair);
        return ChangeAsync(
            async store =>
            {
                var record = await store.Repairs.FindAsync([repair.Crossing, repair.Id], cancellation);
                if (record is null)
                {
                    store.Repairs.Add(
                        record = new RepairRecord
                        {
                            Crossing = repair.Crossing,
                            Id = repair.Id,
                            AtTicks = repair.At.UtcTicks,
                            Sealed = [],
                        }
                    );
                }

                record.Sealed = cipher.Seal(JsonSerializer.SerializeToUtf8Bytes(repair, Options));
            },
            cancellation
        );
    }

    public async Task<IReadOnlyList<Repair>> RepairsAsync(string crossing, int most, CancellationToken cancellation)
    {
        await using var store = factory.CreateDbContext();
        var records = await store
            .Repairs.AsNoTracking()
            .Where(one => one.Crossing == crossing)
            .OrderByDescending(one => one.AtTicks)
            .Take(most)
            .Select(one => one.Sealed)
            .ToListAsync(cancellation);
        return [.. records.Select(Open<Repair>)];
    }

    private T Open<T>(byte[] secret) => JsonSerializer.Deserialize<T>(cipher.Open(secret), Options)!;

    private Task ChangeAsync(Func<VestigeStore, Task> change, CancellationToken cancellation) =>
        factory.ChangeAsync("What was compared", change, cancellation);
}
