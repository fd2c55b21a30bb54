using System.Buffers;
using System.Text;
using System.Text.RegularExpressions;

namespace Vestige.Connectors.PostgreSql.Tests.Servers;

/// <summary>A script for psql, cut into its statements by the server's lexical rules (PostgreSQL manual, Lexical Structure).</summary>
internal static partial class SqlScript
{
    private static readonly SearchValues<char> TagCharacters = SearchValues.Create(
        "abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ_0123456789"
    );

    /// <summary>The statements in their order. Lines that speak to psql itself are left out, and so is what is copied through it.</summary>
    public static IEnumerable<string> StatementsOf(string text)
    {
        var lines = Copied().Replace(text, "").Split('\n').Where(line => !line.StartsWith('\\'));
        var script = string.Join('\n', lines);
        var (statement, at) = (new StringBuilder(), 0);
        while (at < script.Length)
        {
            var part = PartAt(script, at);
            at += part.Length;
            if (part != ";")
            {
                statement.Append(part.StartsWith("--", StringComparison.Ordinal) ? " " : part);
                continue;
            }

            var whole = statement.ToString().Trim();
            statement.Clear();
            if (whole.Length > 0 && !whole.StartsWith("COPY", StringComparison.OrdinalIgnoreCase))
            {
                yield return whole;
            }
        }
    }

    /// <summary>A comment, a quoted text or name, a dollar-quoted text, or one character.</summary>
    private static string PartAt(string script, int at)
    {
        var rest = script.AsSpan(at);
        if (rest.StartsWith("--"))
        {
            return script[at..Past(script, "\n", at)];
        }

        if (rest.StartsWith("/*"))
        {
            return script[at..Past(script, "*/", at + 2)];
        }

        if (rest[0] is '\'' or '"')
        {
            return script[at..Past(script, $"{rest[0]}", at + 1)];
        }

        if (rest[0] == '$' && rest[1..].IndexOf('$') is var end and >= 0 && !rest[1..(end + 1)].ContainsAnyExcept(TagCharacters))
        {
            var tag = rest[..(end + 2)].ToString();
            return script[at..Past(script, tag, at + tag.Length)];
        }

        return script[at..(at + 1)];
    }

    [GeneratedRegex(
        "^copy [^;]*from stdin[^;]*;.*?^\\\\\\.$",
        RegexOptions.IgnoreCase | RegexOptions.Singleline | RegexOptions.Multiline,
        matchTimeoutMilliseconds: 10_000
    )]
    private static partial Regex Copied();

    private static int Past(string script, string end, int from) =>
        script.IndexOf(end, from, StringComparison.Ordinal) is var found and >= 0 ? found + end.Length : script.Length;
}
