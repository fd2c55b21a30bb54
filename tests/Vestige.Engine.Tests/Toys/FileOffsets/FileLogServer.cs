using System.Globalization;
using Vestige.Core.Changes;
using Vestige.Core.Positions;

namespace Vestige.Engine.Tests.Toys.FileOffsets;

/// <summary>One server: its log, in files of a few transactions, at offsets of its own.</summary>
public sealed class FileLogServer
{
    private const int FileTransactions = 5;
    private const ulong FirstOffset = 4;
    private TransactionSet has = TransactionSet.Parse("");
    private readonly List<LogEntry> log = [];
    private readonly int size;
    private int written;

    /// <summary>The transactions before the oldest that is there still.</summary>
    private string hadBefore = "";

    private FileLogServer(string name, int number)
    {
        Name = name;

        // No two servers write a transaction at the same place.
        size = 100 + (number * 7);
        Begin = Oldest = Encode(1, FirstOffset);
    }

    public static FileLogServer First() => new("s0", 0);

    public string Name { get; }

    public LogIdentity Identity => new(Name, 1);

    /// <summary>Nothing was ever before it.</summary>
    public ulong Begin { get; }

    /// <summary>What comes after it is there still.</summary>
    public ulong Oldest { get; private set; }

    public ulong Head => log.Count > 0 ? log[^1].Offset : Oldest;

    /// <summary>The transactions that are there still, in their order.</summary>
    public IReadOnlyList<LogEntry> Log => log;

    /// <summary>Where the log can be continued after its head.</summary>
    public string Token => TokenOf(Head, has.ToString());

    /// <summary>The token at a place, after a set of transactions.</summary>
    public static string TokenOf(ulong offset, string had) => $"{Format(offset)} {had}";

    /// <summary>The token after a transaction.</summary>
    public static string TokenAfter(LogEntry entry) => TokenOf(entry.Offset, entry.Had);

    /// <summary>The transactions that a token names; null where it names only a place.</summary>
    public static string? HadOf(string token) => token.Split(' ') is [_, var had] ? had : null;

    public static string Format(ulong offset) =>
        string.Create(CultureInfo.InvariantCulture, $"log.{offset >> 32:000000}:{offset & uint.MaxValue}");

    public static ulong? Parse(string text) =>
        text.Split('.', ':') is ["log", var file, var offset]
        && uint.TryParse(file, CultureInfo.InvariantCulture, out var number)
        && uint.TryParse(offset, CultureInfo.InvariantCulture, out var within)
            ? Encode(number, within)
            : null;

    /// <summary>About how many bytes lie between two places.</summary>
    public long Distance(ulong from, ulong to) =>
        ((long)((to >> 32) - (from >> 32)) * FileTransactions * size) + (long)(to & uint.MaxValue) - (long)(from & uint.MaxValue);

    public void Commit(DateTimeOffset at, IReadOnlyList<RowChange> changes) => Write(has.WithNextOf(Name), at, changes);

    /// <summary>What was confirmed need not be kept.</summary>
    public void Drop(ulong upTo)
    {
        hadBefore = log.LastOrDefault(entry => entry.Offset <= upTo)?.Had ?? hadBefore;
        Oldest = Math.Max(Oldest, upTo);
        log.RemoveAll(entry => entry.Offset <= upTo);
    }

    /// <summary>
    /// Another server that has replicated this one takes over. It has the same transactions in its own log, the old ones as far as they
    /// were needed.
    /// </summary>
    public FileLogServer Successor(int number)
    {
        var next = new FileLogServer($"s{number}", number) { has = TransactionSet.Parse(hadBefore), hadBefore = hadBefore };
        foreach (var entry in log)
        {
            next.Write(TransactionSet.Parse(entry.Had), entry.CommittedAt, entry.Changes);
        }

        return next;
    }

    /// <summary>The place in this log after all the transactions of a set, and after no others; null where there is none.</summary>
    public ulong? After(string had) => had == hadBefore ? Oldest : log.Find(entry => entry.Had == had)?.Offset;

    private void Write(TransactionSet after, DateTimeOffset at, IReadOnlyList<RowChange> changes)
    {
        has = after;
        var offset = Encode((uint)(1 + (written / FileTransactions)), FirstOffset + (ulong)(((written % FileTransactions) + 1) * size));
        written++;
        log.Add(new LogEntry(offset, has.ToString(), at, changes));
    }

    private static ulong Encode(uint file, ulong offset) => ((ulong)file << 32) | offset;
}
