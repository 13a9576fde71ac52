// An I2C master and a part that answers, with random bytes. Icarus Verilog writes the waveform; the expected transfers are printed.
`timescale 1ns / 1ps

module bench;
  tri1 scl, sda;
  reg scl_low = 0, sda_low = 0, part_low = 0;
  assign scl = scl_low ? 1'b0 : 1'bz;
  assign sda = sda_low | part_low ? 1'b0 : 1'bz;

  integer seed, count, i, n, wanted;
  reg [6:0] address;
  reg [7:0] bytes[0:15];
  reg answered;
  integer quarter;

  task bit_out(input level);
    begin
      sda_low = !level;
      #(quarter) scl_low = 0;
      #(2 * quarter) scl_low = 1;
      #(quarter);
    end
  endtask

  task part_bit(input level);
    begin
      sda_low = 0;
      part_low = !level;
      #(quarter) scl_low = 0;
      // The part holds the clock now and then.
      if ($random(seed) % 7 == 0) begin
        scl_low = 1;
        #(9 * quarter) scl_low = 0;
      end
      #(2 * quarter) scl_low = 1;
      #(quarter) part_low = 0;
    end
  endtask

  task start;
    begin
      sda_low = 0;
      #(quarter) scl_low = 0;
      #(2 * quarter) sda_low = 1;
      #(quarter) scl_low = 1;
      #(quarter);
    end
  endtask

  task stop;
    begin
      sda_low = 1;
      #(quarter) scl_low = 0;
      #(quarter) sda_low = 0;
      #(6 * quarter);
    end
  endtask

  task out(input [7:0] value, input ack);
    integer b;
    begin
      for (b = 7; b >= 0; b = b - 1) bit_out(value[b]);
      part_bit(!ack);
    end
  endtask

  task in(input [7:0] value, input last);
    integer b;
    begin
      for (b = 7; b >= 0; b = b - 1) part_bit(value[b]);
      bit_out(last);
    end
  endtask

  initial begin
    $dumpfile("bus.vcd");
    $dumpvars(0, scl, sda);
    seed = 20311207;
    #1000;
    for (count = 0; count < 200; count = count + 1) begin
      quarter = 600 + $unsigned($random(seed)) % 1900;
      address = 8 + $unsigned($random(seed)) % 110;
      if (count % 5 == 0) address = 7'h2C;
      n = $unsigned($random(seed)) % 6;
      wanted = $unsigned($random(seed)) % 6;
      answered = $unsigned($random(seed)) % 9 != 0;
      $write("%0d ", address);
      start;
      if (n > 0 || wanted == 0) begin
        out({address, 1'b0}, answered);
        $write("W");
        if (answered)
          for (i = 0; i < n; i = i + 1) begin
            bytes[i] = $random(seed);
            $write(" %02X", bytes[i]);
            out(bytes[i], 1);
          end
        if (answered && wanted > 0) start;
      end
      if (wanted > 0 && (answered || n == 0)) begin
        out({address, 1'b1}, answered);
        $write("R");
        if (answered)
          for (i = 0; i < wanted; i = i + 1) begin
            bytes[i] = $random(seed);
            $write(" %02X", bytes[i]);
            in(bytes[i], i + 1 == wanted);
          end
      end
      stop;
      $display("%s", answered ? "" : " nak");
      #($unsigned($random(seed)) % 100000);
    end
    $finish;
  end
endmodule
