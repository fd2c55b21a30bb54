using System.Net;
using System.Security.Cryptography;
using System.Security.Cryptography.X509Certificates;
using Vestige.Connectors.PostgreSql.Tests.Servers;
using Vestige.Connectors.PostgreSql.Wire;
using Vestige.Engine.Faults;
using Xunit;

namespace Vestige.Connectors.PostgreSql.Tests;

/// <summary>Encryption and the ways of signing in, at a real server.</summary>
public sealed class SignInTests
{
    private readonly CancellationToken cancellation = TestContext.Current.CancellationToken;

    [Fact]
    public async Task The_line_is_encrypted_and_the_certificate_checked_as_the_connection_says()
    {
        await using var server = await Cluster.StartAsync();
        var authority = Path.Combine(server.Data, "authority.pem");
        await CertifyAsync(server, authority);
        var a = await server.MakeDatabaseAsync();
        var plain = a.Settings() with { Host = "localhost" };
        Assert.Equal("not encrypted", await TlsAsync(plain));
        Assert.StartsWith("encrypted", await TlsAsync(plain with { Tls = TlsMode.Prefer }), StringComparison.Ordinal);
        Assert.StartsWith("encrypted", await TlsAsync(plain with { Tls = TlsMode.Require }), StringComparison.Ordinal);
        Assert.Equal("encrypted, the certificate is accepted", await TlsAsync(plain with { Tls = TlsMode.Verify, CaFile = authority }));
        Assert.Contains("not accepted", await TlsAsync(plain with { Tls = TlsMode.Verify }), StringComparison.Ordinal);
        Assert.Contains(
            "not accepted",
            await TlsAsync(plain with { Host = "127.0.0.1", Tls = TlsMode.Verify, CaFile = authority }),
            StringComparison.Ordinal
        );
        await using var link = await ReplicationLink.OpenAsync(plain with { Tls = TlsMode.Verify, CaFile = authority }, cancellation);
        Assert.True(link.Encrypted);
        Assert.Single(await link.QueryAsync("IDENTIFY_SYSTEM", cancellation));
    }

    [Theory]
    [InlineData("scram-sha-256", "scram-sha-256")]
    [InlineData("md5", "md5")]
    [InlineData("password", "scram-sha-256")]
    [InlineData("trust", "scram-sha-256")]
    public async Task Each_way_of_signing_in_that_a_server_may_ask_for_works(string asked, string stored)
    {
        await using var server = await Cluster.StartAsync($"password_encryption={stored}");
        var a = await server.MakeDatabaseAsync();
        await a.RunAsync("CREATE ROLE somebody LOGIN REPLICATION PASSWORD 'made-up: ü, '''");
        await File.WriteAllTextAsync(
            Path.Combine(server.Data, "pg_hba.conf"),
            $"host all somebody 127.0.0.1/32 {asked}\nhost replication somebody 127.0.0.1/32 {asked}\nhost all all 127.0.0.1/32 "
                + "scram-sha-256\n",
            cancellation
        );
        await a.RunAsync("SELECT pg_reload_conf(); SELECT pg_sleep(0.3)");
        await using var link = await ReplicationLink.OpenAsync(a.Settings("somebody", "made-up: ü, '"), cancellation);
        Assert.Single(await link.QueryAsync("IDENTIFY_SYSTEM", cancellation));
        if (asked != "trust")
        {
            var refused = await Assert.ThrowsAsync<PortException>(() =>
                ReplicationLink.OpenAsync(a.Settings("somebody", "wrong"), cancellation)
            );
            Assert.Contains("28P01", refused.Message, StringComparison.Ordinal);
            var without = await Assert.ThrowsAsync<PortException>(() =>
                ReplicationLink.OpenAsync(a.Settings("somebody") with { Password = null }, cancellation)
            );
            Assert.Contains("the connection has none", without.Message, StringComparison.Ordinal);
        }
    }

    private async Task<string> TlsAsync(PostgreSqlSettings settings)
    {
        await using var target = new PostgreSqlTarget(settings, TimeProvider.System);
        return (await target.TestAsync(cancellation)).Single(line => line.Step == "TLS").Found;
    }

    private static async Task CertifyAsync(Cluster server, string authorityFile)
    {
        using var authorityKey = RSA.Create(2048);
        var request = new CertificateRequest("CN=made-up authority", authorityKey, HashAlgorithmName.SHA256, RSASignaturePadding.Pkcs1);
        request.CertificateExtensions.Add(
            new X509BasicConstraintsExtension(certificateAuthority: true, hasPathLengthConstraint: false, 0, critical: true)
        );
        var (from, to) = (DateTimeOffset.UtcNow.AddDays(-1), DateTimeOffset.UtcNow.AddDays(10));
        using var authority = request.CreateSelfSigned(from, to);
        using var key = RSA.Create(2048);
        var asked = new CertificateRequest("CN=localhost", key, HashAlgorithmName.SHA256, RSASignaturePadding.Pkcs1);
        var names = new SubjectAlternativeNameBuilder();
        names.AddDnsName("localhost");
        names.AddIpAddress(IPAddress.Parse("192.0.2.1"));
        asked.CertificateExtensions.Add(names.Build());
        using var certificate = asked.Create(authority, from, to, [1, 2, 3]);
        await File.WriteAllTextAsync(authorityFile, authority.ExportCertificatePem());
        await File.WriteAllTextAsync(Path.Combine(server.Data, "server.crt"), certificate.ExportCertificatePem());
        var keyFile = Path.Combine(server.Data, "server.key");
        await File.WriteAllTextAsync(keyFile, key.ExportPkcs8PrivateKeyPem());
        await Cluster.RunAsync("chmod", "600", keyFile);
        if (Environment.UserName == "root")
        {
            await Cluster.RunAsync("chown", "postgres", keyFile, Path.Combine(server.Data, "server.crt"));
        }

        await server.HaltAsync(immediate: false);
        await File.AppendAllTextAsync(Path.Combine(server.Data, "postgresql.conf"), "ssl=on\n");
        await server.BootAsync();
    }
}
