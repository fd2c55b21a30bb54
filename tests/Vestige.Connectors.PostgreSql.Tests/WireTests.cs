using System.Buffers;
using System.Text;
using CsCheck;
using Npgsql;
using Vestige.Connectors.PostgreSql.Targets;
using Vestige.Connectors.PostgreSql.Tests.Servers;
using Vestige.Connectors.PostgreSql.Wire;
using Vestige.Core.Changes;
using Vestige.Core.Crossings;
using Vestige.Core.Positions;
using Xunit;

namespace Vestige.Connectors.PostgreSql.Tests;

/// <summary>What goes over the connection, against the standards and the server's own arithmetic.</summary>
public sealed class WireTests(TwoServers servers)
{
    /// <summary>The worked example of RFC 7677, section 3.</summary>
    [Fact]
    public void Signing_in_follows_the_example_of_the_standard()
    {
        var scram = new Scram("pencil", "rOprNGfwEbeRWgbNEkqO", "user");
        Assert.Equal("n,,n=user,r=rOprNGfwEbeRWgbNEkqO", scram.First);
        Assert.Equal(
            "c=biws,r=rOprNGfwEbeRWgbNEkqO%hvYDpWUa2RaTCAfuxFIlj)hNlF$k0,p=dHzbZapWIk4jUhN+Ute9ytag9zjfMHgsqmmiz7AndVQ=",
            scram.Final("r=rOprNGfwEbeRWgbNEkqO%hvYDpWUa2RaTCAfuxFIlj)hNlF$k0,s=W22ZaJ0SNY7soEsUEjb6gQ==,i=4096")
        );
        Assert.True(scram.Proves("v=6rriTRBi23WpRR/wtup+mMhUZUn/dB5nLTJRsjl95G4="));
        Assert.False(scram.Proves("v=6rriTRBi23WpRR/wtup+mMhUZUn/dB5nLTJRsjl85G4="));
        Assert.Throws<InvalidDataException>(() => scram.Final("r=other,s=W22ZaJ0SNY7soEsUEjb6gQ==,i=4096"));
    }

    [Fact]
    public async Task Positions_agree_with_the_servers_arithmetic()
    {
        var a = await servers.A.MakeDatabaseAsync();
        await using var connection = await a.OpenAsync();
        await using var source = a.Source();
        await Gen.Select(Gen.ULong[0, long.MaxValue], Gen.ULong[0, long.MaxValue])
            .SampleAsync(
                async (left, right) =>
                {
                    var (from, to) = (new LogPosition(Math.Min(left, right)), new LogPosition(Math.Max(left, right)));
                    await using var command = new NpgsqlCommand(
                        "SELECT pg_wal_lsn_diff($2::pg_lsn, $1::pg_lsn)::text, $1::pg_lsn::text",
                        connection
                    );
                    command.Parameters.Add(PostgreSqlDatabase.Text(Lsn.Format(from)));
                    command.Parameters.Add(PostgreSqlDatabase.Text(Lsn.Format(to)));
                    await using var reader = await command.ExecuteReaderAsync();
                    await reader.ReadAsync();
                    return reader.GetString(0) == source.Distance(from, to).ToString(System.Globalization.CultureInfo.InvariantCulture)
                        && reader.GetString(1) == Lsn.Format(from)
                        && Lsn.Parse(Lsn.Format(to)) == to;
                },
                iter: 200,
                threads: 1
            );
        Assert.Null(Lsn.Parse("0"));
        Assert.Null(Lsn.Parse("x/1"));
        Assert.Null(Lsn.Parse("1/123456789"));
    }

    /// <summary>Any text that a server can hold comes back from a COPY as it went in.</summary>
    [Fact]
    public async Task Copied_texts_come_back_as_they_were()
    {
        var b = await servers.B.MakeDatabaseAsync();
        await b.RunAsync("CREATE TABLE t (n int, v text, w text)");
        var texts = new List<string>();
        Gen.String.Sample(text => texts.Add(text.Replace("\0", "", StringComparison.Ordinal)), iter: 300, threads: 1);
        var wanted = texts.Select(text => Encoding.UTF8.GetString(Encoding.UTF8.GetBytes(text))).ToList();
        var rows = new ArrayBufferWriter<byte>();
        var writer = new RowWriter();
        for (var i = 0; i < wanted.Count; i++)
        {
            writer.Begin(2);
            writer.Text(wanted[i]);
            writer.Null();
            CopyText.Write(rows, i, writer.ToRow());
        }

        await using var connection = await b.OpenAsync();
        await using (var copy = await connection.BeginTextImportAsync("COPY t FROM STDIN", TestContext.Current.CancellationToken))
        {
            await ((StreamWriter)copy).BaseStream.WriteAsync(rows.WrittenMemory, TestContext.Current.CancellationToken);
        }

        await using var command = new NpgsqlCommand("SELECT v FROM t WHERE w IS NULL ORDER BY n", connection);
        await using var reader = await command.ExecuteReaderAsync(TestContext.Current.CancellationToken);
        var found = new List<string>();
        while (await reader.ReadAsync(TestContext.Current.CancellationToken))
        {
            found.Add(reader.GetString(0));
        }

        Assert.Equal(wanted, found);
    }

    [Theory]
    [InlineData("port", "70000", "settings.port")]
    [InlineData("port", "x", "settings.port")]
    [InlineData("tls", "maybe", "settings.tls")]
    [InlineData("ca", "/no/such/file", "settings.ca")]
    [InlineData("host", "", "settings.host")]
    [InlineData("colour", "red", "settings.colour")]
    public void Bad_settings_are_named(string field, string value, string named)
    {
        var settings = new Dictionary<string, string>
        {
            ["host"] = "h",
            ["database"] = "d",
            ["user"] = "u",
            [field] = value,
        };
        var problems = new List<DefinitionProblem>();
        Assert.Null(PostgreSqlSettings.Parse(settings, null, problems));
        Assert.Equal(named, Assert.Single(problems).Field);
        Assert.NotEmpty(problems[0].Remedy);
    }

    /// <summary>Of files elsewhere nothing is said, whether they are there or not.</summary>
    [Fact]
    public void Certificates_come_from_one_folder_only()
    {
        var root = Directory.CreateTempSubdirectory("vestige-ca-").FullName;
        var folder = Directory.CreateDirectory(Path.Combine(root, "ca")).FullName;
        File.WriteAllText(Path.Combine(folder, "county.pem"), "");
        File.WriteAllText(Path.Combine(root, "outside.pem"), "");
        (PostgreSqlSettings? Read, string? Found) Read(string ca)
        {
            var problems = new List<DefinitionProblem>();
            var settings = new Dictionary<string, string>
            {
                ["host"] = "h",
                ["database"] = "d",
                ["user"] = "u",
                ["tls"] = "verify",
                ["ca"] = ca,
            };
            var read = PostgreSqlSettings.Parse(settings, null, problems, folder);
            return (read, problems.Count == 0 ? null : problems[0].Found);
        }

        Assert.Equal(Path.Combine(folder, "county.pem"), Read("county.pem").Read?.CaFile);
        Assert.Equal(Path.Combine(folder, "county.pem"), Read(Path.Combine(folder, "county.pem")).Read?.CaFile);
        var missing = Read("missing.pem").Found;
        Assert.NotNull(missing);
        foreach (var outside in new[] { "../outside.pem", Path.Combine(root, "outside.pem"), "/etc/passwd", "/no/such/file", "..", folder })
        {
            Assert.Equal(missing, Read(outside).Found);
        }

        Directory.Delete(root, recursive: true);
    }
}
