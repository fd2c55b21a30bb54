using Vestige.Connectors.StandIn;
using Vestige.Core.Changes;
using Vestige.Demo.Circulation;

namespace Vestige.Demo.Workload;

/// <summary>
/// Works on the circulation database like its libraries do: loans, returns, renewals, holds, fines and payments, each one
/// transaction; a batch every library night, and rarely a very large transaction. Copies get a column now and then, and one of those is
/// renamed every library day. The rate can be changed at any time.
/// </summary>
public sealed class CirculationWorkload : IAsyncDisposable
{
    private const int ChangesPerTransaction = 4;
    private const int OpenLoansKept = 20_000;
    private const int NightlyRows = 400;
    private const int HugeRows = 15_000;
    private const int HugeEveryNights = 6;
    private const string Shelf = "shelf";
    private const string Place = "place";

    /// <summary>What copies get with time.</summary>
    private static readonly string[] CopyColumns = [Shelf, "condition", "binding", "donor"];
    private static readonly TimeSpan Beat = TimeSpan.FromMilliseconds(20);
    private readonly StandInDatabase database;
    private readonly TimeProvider clock;
    private readonly Random random;
    private readonly List<(long Loan, long Copy, long Patron)> open = [];
    private readonly CancellationTokenSource stopping = new();
    private Task running = Task.CompletedTask;
    private double rate;
    private long patrons;
    private long titles;
    private long copies;
    private long loan;
    private long hold;
    private long fine;
    private int nights;
    private double lastHour;

    public CirculationWorkload(StandInDatabase database, int seed, TimeProvider clock)
    {
        this.database = database;
        this.clock = clock;
        random = new Random(seed);
    }

    public StandInDatabase Database => database;

    /// <summary>Changes a second at the busiest hour, 0 to 20,000.</summary>
    public double Rate
    {
        get => Volatile.Read(ref rate);
        set => Volatile.Write(ref rate, Math.Clamp(value, 0, 20_000));
    }

    /// <summary>Whether the rate follows the library day; else it is held.</summary>
    public bool Rhythm { get; set; } = true;

    /// <summary>Why it stopped working; null while it works.</summary>
    public string? Failure { get; private set; }

    public void Start() => running = RunAsync();

    public async ValueTask DisposeAsync()
    {
        await stopping.CancelAsync();
        await running;
        stopping.Dispose();
    }

    private async Task RunAsync()
    {
        await Task.Yield();
        var due = 0.0;
        var last = clock.GetTimestamp();
        var ready = false;
        using var timer = new PeriodicTimer(Beat, clock);
        while (!stopping.IsCancellationRequested)
        {
            try
            {
                await timer.WaitForNextTickAsync(stopping.Token);
                if (!ready)
                {
                    await LookAsync();
                    ready = true;
                }

                var hour = DailyRhythm.HourAt(clock.GetUtcNow());
                due += clock.GetElapsedTime(last).TotalSeconds * Rate * (Rhythm ? DailyRhythm.ShareAt(hour) : 1) / ChangesPerTransaction;
                last = clock.GetTimestamp();
                due = Math.Min(due, 400);
                for (; due >= 1; due--)
                {
                    await WorkAsync(stopping.Token);
                }

                await NightAsync(hour);
                await ChangeSchemaAsync(hour);
                lastHour = hour;
                Failure = null;
            }
            catch (OperationCanceledException)
            {
                return;
            }
            catch (Exception exception) when (exception is Engine.Faults.PortException or IOException)
            {
                Failure = exception.Message;
                await Task.Delay(TimeSpan.FromSeconds(1), clock, CancellationToken.None);
            }
        }
    }

    private async Task LookAsync()
    {
        using var transaction = await database.BeginAsync(cancellation: stopping.Token);
        var found = transaction.Query(
            "SELECT (SELECT max(id) FROM patron), (SELECT max(id) FROM title), (SELECT max(id) FROM copy), (SELECT max(id) FROM "
                + "loan), (SELECT max(id) FROM hold), (SELECT max(id) FROM fine)"
        )[0];
        (patrons, titles, copies, loan, hold, fine) = (
            found.IntegerAt(0),
            found.IntegerAt(1),
            found.IntegerAt(2),
            found.IntegerAt(3),
            found.IntegerAt(4),
            found.IntegerAt(5)
        );
        open.Clear();
        open.AddRange(
            transaction
                .Query($"SELECT id, copy_id, patron_id FROM loan WHERE returned_at IS NULL ORDER BY id DESC LIMIT {OpenLoansKept / 2}")
                .Select(row => (row.IntegerAt(0), row.IntegerAt(1), row.IntegerAt(2)))
        );
    }

    private async Task WorkAsync(CancellationToken cancellation)
    {
        using var transaction = await database.BeginAsync(cancellation: cancellation);
        var dice = random.Next(100);
        if (open.Count == 0 || (dice < 42 && open.Count < OpenLoansKept))
        {
            Lend(transaction);
        }
        else if (dice < 80)
        {
            Return(transaction);
        }
        else if (dice < 90)
        {
            Renew(transaction);
        }
        else
        {
            PlaceOrDropHold(transaction);
        }

        transaction.Commit();
    }

    private void Lend(StandInTransaction transaction)
    {
        var (copy, patron) = (1 + random.NextInt64(copies), 1 + random.NextInt64(patrons));
        var now = clock.GetUtcNow();
        transaction.Run(
            "INSERT INTO loan (id, copy_id, patron_id, lent_at, due_on, returned_at, renewals) VALUES (?, ?, ?, ?, ?, NULL, 0)",
            ++loan,
            copy,
            patron,
            Moment(now),
            now.AddDays(28).ToString("yyyy-MM-dd")
        );
        transaction.Run("UPDATE copy SET status = 'on loan' WHERE id = ?", copy);
        transaction.Run("UPDATE patron SET open_loans = open_loans + 1 WHERE id = ?", patron);
        if (random.Next(2) == 0)
        {
            transaction.Run("UPDATE hold SET state = 'collected' WHERE id = ?", 1 + random.NextInt64(hold));
        }

        open.Add((loan, copy, patron));
    }

    private void Return(StandInTransaction transaction)
    {
        var i = random.Next(open.Count);
        var (id, copy, patron) = open[i];
        open[i] = open[^1];
        open.RemoveAt(open.Count - 1);
        transaction.Run("UPDATE loan SET returned_at = ? WHERE id = ?", Moment(clock.GetUtcNow()), id);
        transaction.Run("UPDATE copy SET status = 'on shelf' WHERE id = ?", copy);
        transaction.Run("UPDATE patron SET open_loans = max(0, open_loans - 1) WHERE id = ?", patron);
        if (random.Next(6) == 0)
        {
            transaction.Run(
                "INSERT INTO fine (id, loan_id, amount, raised_at, settled) VALUES (?, ?, ?, ?, 1)",
                ++fine,
                id,
                $"{random.Next(0, 5)}.{random.Next(100):D2}",
                Moment(clock.GetUtcNow())
            );
            transaction.Run(
                "INSERT INTO payment (fine_id, number, amount, paid_at) VALUES (?, 1, ?, ?)",
                fine,
                $"{random.Next(0, 5)}.{random.Next(100):D2}",
                Moment(clock.GetUtcNow())
            );
        }
    }

    private void Renew(StandInTransaction transaction)
    {
        for (var n = 0; n < ChangesPerTransaction; n++)
        {
            var (id, _, _) = open[random.Next(open.Count)];
            transaction.Run("UPDATE loan SET renewals = renewals + 1, due_on = date(due_on, '+14 days') WHERE id = ?", id);
        }
    }

    private void PlaceOrDropHold(StandInTransaction transaction)
    {
        transaction.Run(
            "INSERT INTO hold (id, title_id, patron_id, placed_at, state) VALUES (?, ?, ?, ?, 'waiting')",
            ++hold,
            1 + random.NextInt64(titles),
            1 + random.NextInt64(patrons),
            Moment(clock.GetUtcNow())
        );
        transaction.Run("DELETE FROM hold WHERE id = ?", 1 + random.NextInt64(hold - 1));
        transaction.Run("UPDATE title SET subject = subject WHERE id = ?", 1 + random.NextInt64(titles));
    }

    /// <summary>At four in the morning of the library day.</summary>
    private async Task NightAsync(double hour)
    {
        if (!HasCome(4, hour))
        {
            return;
        }

        nights++;
        var rows = nights % HugeEveryNights == 0 ? HugeRows : NightlyRows;
        using var transaction = await database.BeginAsync(cancellation: stopping.Token);
        transaction.Run("UPDATE loan SET renewals = renewals WHERE id IN (SELECT id FROM loan ORDER BY id DESC LIMIT ?)", rows);
        transaction.Commit();
    }

    /// <summary>
    /// A little after midnight of the library day the place of copies is called otherwise, and at one in the afternoon copies get another
    /// column, as long as there are more to get.
    /// </summary>
    private async Task ChangeSchemaAsync(double hour)
    {
        if (!HasCome(0.5, hour) && !HasCome(13, hour))
        {
            return;
        }

        using var transaction = await database.BeginAsync(cancellation: stopping.Token);
        var there = transaction.Query("SELECT name FROM pragma_table_info('copy')").Select(row => row.TextAt(0)).ToHashSet();
        if (hour < 12)
        {
            Rename(transaction, there);
        }
        else if (CopyColumns.FirstOrDefault(column => !there.Contains(column) && !(column == Shelf && there.Contains(Place))) is { } added)
        {
            transaction.Run($"ALTER TABLE copy ADD COLUMN {added} TEXT DEFAULT 'not known'");
            transaction.Run($"UPDATE copy SET {added} = 'as new' WHERE id IN (SELECT id FROM copy ORDER BY id DESC LIMIT ?)", NightlyRows);
        }

        transaction.Commit();
    }

    private static void Rename(StandInTransaction transaction, HashSet<string> there)
    {
        if (there.Contains(Shelf) || there.Contains(Place))
        {
            var (from, to) = there.Contains(Shelf) ? (Shelf, Place) : (Place, Shelf);
            transaction.Run($"ALTER TABLE copy RENAME COLUMN {from} TO {to}");
        }
    }

    /// <summary>Whether an hour of the library day has come since the last look, while the libraries are at work.</summary>
    private bool HasCome(double wanted, double hour) => lastHour < wanted && hour >= wanted && hour < wanted + 1 && Rate > 0 && Rhythm;

    private static string Moment(DateTimeOffset at) => at.ToString("yyyy-MM-dd HH:mm:ss");
}
