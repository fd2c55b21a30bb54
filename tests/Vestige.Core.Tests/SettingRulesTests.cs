using Vestige.Core.Connections;
using Xunit;

namespace Vestige.Core.Tests;

public class SettingRulesTests
{
    private static readonly SettingField[] Fields =
    [
        new("host", "Host") { Required = true, DirectsSecret = true },
        new("port", "Port")
        {
            Type = SettingType.Number,
            Least = 1,
            Most = 65535,
            Default = "5432",
        },
        new("mode", "Mode")
        {
            Type = SettingType.Choice,
            Default = "slow",
            Choices = [new("slow", "slowly"), new("fast", "fast")],
        },
        new("password", "Password") { Type = SettingType.Secret },
    ];

    [Theory]
    [InlineData("host=db", "")]
    [InlineData("host=db;port=1;mode=fast", "")]
    [InlineData("host=db;mode=FAST", "")]
    [InlineData("host=db;port=", "")]
    [InlineData("", "settings.host")]
    [InlineData("host= ", "settings.host")]
    [InlineData("host=db;port=0", "settings.port")]
    [InlineData("host=db;port=65536", "settings.port")]
    [InlineData("host=db;port=+1", "settings.port")]
    [InlineData("host=db;port=1.0", "settings.port")]
    [InlineData("host=db;port=99999999999999999999", "settings.port")]
    [InlineData("host=db;mode=medium", "settings.mode")]
    [InlineData("host=db;hots=db", "settings.hots")]
    [InlineData("host=db;password=x", "settings.password")]
    public void Each_wrong_setting_is_named(string given, string wrong) =>
        Assert.Equal(wrong, string.Join(";", SettingRules.Check(Fields, Read(given), secret: null).Select(problem => problem.Field)));

    [Fact]
    public void A_part_that_the_secret_does_not_have_is_named() =>
        Assert.Equal("secret.token", Assert.Single(SettingRules.Check(Fields, Read("host=db"), Read("token=x;password=y"))).Field);

    [Fact]
    public void A_kind_without_settings_takes_none() =>
        Assert.Equal("Leave it out: this kind has none.", Assert.Single(SettingRules.Check([], Read("host=db"), secret: null)).Remedy);

    [Theory]
    [InlineData("host=a", "host=a;port=7;mode=fast", false)]
    [InlineData("host=a", "host=b", true)]
    [InlineData("host=a", "port=7", true)]
    public void A_secret_goes_elsewhere_only_with_a_setting_that_directs_it(string saved, string changed, bool elsewhere) =>
        Assert.Equal(elsewhere, SettingRules.SecretGoesElsewhere(Fields, Read(saved), Read(changed)));

    private static Dictionary<string, string> Read(string settings) =>
        settings
            .Split(';', StringSplitOptions.RemoveEmptyEntries)
            .Select(pair => pair.Split('='))
            .ToDictionary(pair => pair[0], pair => pair[1]);
}
